import type { ReactNode } from "react";

/** A labelled field of a form. */
export function Labelled({ label, hint, children }: { label: string; hint?: string; children: ReactNode }) {
	return (
		// biome-ignore lint/a11y/noLabelWithoutControl: the control is the child
		<label className="block">
			<span className="mb-1 block font-medium">{label}</span>
			{children}
			{hint && <span className="mt-1 block text-sm text-faint">{hint}</span>}
		</label>
	);
}
