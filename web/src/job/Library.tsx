import type { ReactNode } from "react";
import { Heading as Head } from "../parts/Heading";

const pages = [
	["/jobs", "Jobs"],
	["/scripts", "Scripts"],
	["/packages", "Packages"],
] as const;

/** The head of the pages about work that is done everywhere. */
export function Heading({ title, children }: { title: string; children?: ReactNode }) {
	return (
		<Head title={title} label="Work" pages={pages}>
			{children}
		</Head>
	);
}
