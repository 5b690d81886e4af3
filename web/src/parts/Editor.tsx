import type { ReactNode } from "react";
import { ProblemAlert } from "./ProblemAlert";

type Save = { isPending: boolean; isError: boolean; error: unknown; mutate: () => void };

/** The form that one thing of a list is made or changed in. */
export function Editor({
	save,
	ready = true,
	onCancel,
	children,
}: {
	save: Save;
	ready?: boolean;
	onCancel: () => void;
	children: ReactNode;
}) {
	return (
		<form
			className="mb-5 space-y-3 rounded-md border border-line bg-panel p-4"
			onSubmit={(e) => {
				e.preventDefault();
				save.mutate();
			}}
		>
			{children}
			<div className="flex gap-2">
				<button type="submit" className="button" disabled={save.isPending || !ready}>
					Save
				</button>
				<button type="button" className="button-quiet" onClick={onCancel}>
					Cancel
				</button>
			</div>
			{save.isError && <ProblemAlert error={save.error} />}
		</form>
	);
}

/** What can be done to a row of a list. */
export function RowActions({
	name,
	onChange,
	onRemove,
}: {
	name: string;
	onChange?: () => void;
	onRemove: () => void;
}) {
	return (
		<>
			{onChange && (
				<button type="button" className="button-quiet" aria-label={`Change ${name}`} onClick={onChange}>
					Change
				</button>
			)}
			<button type="button" className="button-quiet" aria-label={`Remove ${name}`} onClick={onRemove}>
				Remove
			</button>
		</>
	);
}

/** One of a few, side by side. */
export function Choice<T>({
	of,
	chosen,
	name,
	onChoose,
}: {
	of: readonly T[];
	chosen: T | undefined;
	name: (t: T) => string;
	onChoose: (t: T) => void;
}) {
	return of.map((t) => (
		<button
			key={name(t)}
			type="button"
			aria-pressed={t === chosen}
			onClick={() => onChoose(t)}
			className={`min-h-[24px] rounded-md px-2 py-0.5 text-sm ${t === chosen ? "bg-heather-tint font-medium text-heather" : "text-faint hover:text-word"}`}
		>
			{name(t)}
		</button>
	));
}
