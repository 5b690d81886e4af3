import type { ReactNode } from "react";
import { NavLink } from "react-router";

/** The head of pages that belong together, with the way to the others. */
export function Heading({
	title,
	label,
	pages,
	children,
}: {
	title: string;
	label: string; // of the pages
	pages: readonly (readonly [to: string, name: string])[];
	children?: ReactNode;
}) {
	return (
		<div className="flex items-center gap-4 border-line border-b px-5 py-3">
			<h1 className="font-semibold text-xl">{title}</h1>
			<nav aria-label={label} className="flex gap-1">
				{pages.map(([to, name]) => (
					<NavLink
						key={to}
						to={to}
						className={({ isActive }) =>
							`rounded-md px-2 py-0.5 ${isActive ? "bg-heather-tint font-medium text-heather" : "text-faint hover:text-word"}`
						}
					>
						{name}
					</NavLink>
				))}
			</nav>
			{children}
		</div>
	);
}
