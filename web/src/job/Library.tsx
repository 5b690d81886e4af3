import type { ReactNode } from "react";
import { NavLink } from "react-router";

const pages = [
	["/jobs", "Jobs"],
	["/scripts", "Scripts"],
	["/packages", "Packages"],
] as const;

/** The head of the pages about work that is done everywhere. */
export function Heading({ title, children }: { title: string; children?: ReactNode }) {
	return (
		<div className="flex items-center gap-4 border-line border-b px-5 py-3">
			<h1 className="font-semibold text-xl">{title}</h1>
			<nav aria-label="Work" className="flex gap-1">
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
