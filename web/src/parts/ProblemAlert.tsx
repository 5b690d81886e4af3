import { ExclamationTriangleIcon } from "@heroicons/react/20/solid";
import type { ReactNode } from "react";
import { ProblemError } from "../api/client";

/** What went wrong, and what to do. */
export function ProblemAlert({ error, retry }: { error: unknown; retry?: () => void }) {
	const problem = error instanceof ProblemError ? error.problem : { title: "The page failed.", detail: String(error) };
	return (
		<div role="alert" className="flex items-start gap-2.5 rounded-md bg-rowan-tint px-3 py-2">
			<ExclamationTriangleIcon className="mt-0.5 size-4 shrink-0 text-rowan" aria-hidden="true" />
			<div className="min-w-0">
				<p className="font-medium">{problem.title}</p>
				{problem.detail && <p className="whitespace-pre-wrap">{problem.detail}</p>}
			</div>
			{retry && (
				<button type="button" className="button-quiet ml-auto" onClick={retry}>
					Try again
				</button>
			)}
		</div>
	);
}

/** What a place says that has nothing to show yet. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
	return (
		<div className="flex flex-col items-center gap-1.5 px-6 py-12 text-center">
			<svg viewBox="0 0 120 40" className="mb-2 h-10 text-line" fill="currentColor" aria-hidden="true">
				<path d="M0 34c18-18 30-22 42-20s20 14 34 12 26-14 44-8v22H0z" />
			</svg>
			<p className="text-lg font-medium">{title}</p>
			<div className="max-w-prose text-faint">{children}</div>
		</div>
	);
}

/** A place that waits for its data. It shows nothing at first, so that quick answers do not flicker. */
export function Waiting({ what }: { what: string }) {
	return (
		<p role="status" className="animate-pulse p-6 text-faint [animation-delay:400ms]">
			Reading {what}…
		</p>
	);
}
