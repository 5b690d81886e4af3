import type { ReactNode } from "react";

/** The head of a page: its title, and what belongs to all of it. */
export function Heading({ title, children }: { title: string; children?: ReactNode }) {
	return (
		<div className="flex flex-wrap items-center gap-x-4 gap-y-2 px-5 pt-4 pb-1">
			<h1 className="font-semibold text-xl">{title}</h1>
			{children}
		</div>
	);
}
