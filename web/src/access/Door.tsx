import type { ReactNode } from "react";

/** The page of those who are not signed in. */
export function Door({ title, children }: { title: string; children: ReactNode }) {
	return (
		<div className="relative flex h-full flex-col items-center overflow-hidden bg-page px-4 pt-[14vh]">
			<main className="relative z-10 w-full max-w-sm">
				<div className="mb-6 flex items-center gap-3">
					<img src="/moor.svg" alt="" className="size-10" />
					<div>
						<p className="text-2xl font-semibold tracking-tight">Moorwatch</p>
						<p className="text-faint">{title}</p>
					</div>
				</div>
				{children}
			</main>
			<svg
				viewBox="0 0 1200 300"
				preserveAspectRatio="xMidYMax slice"
				className="absolute inset-x-0 bottom-0 h-[38vh] w-full"
				aria-hidden="true"
			>
				<circle cx="905" cy="88" r="26" className="fill-gorse-fill opacity-80 dark:opacity-60" />
				<path
					d="M0 190c120-70 220-96 330-70s170 70 290 52 190-88 310-72 180 62 270 40v160H0z"
					style={{ fill: "color-mix(in srgb, var(--heather) 16%, var(--page))" }}
				/>
				<path
					d="M0 236c150-52 260-56 380-30s220 36 340 8 250-44 480 6v80H0z"
					style={{ fill: "color-mix(in srgb, var(--heather) 34%, var(--page))" }}
				/>
				<path
					d="M0 272c200-26 340-24 520-6s420 10 680-18v52H0z"
					style={{ fill: "color-mix(in srgb, var(--heather) 60%, var(--page))" }}
				/>
			</svg>
		</div>
	);
}
