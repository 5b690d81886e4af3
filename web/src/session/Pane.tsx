import { EyeSlashIcon, XMarkIcon } from "@heroicons/react/20/solid";
import type { ReactNode } from "react";
import { Fence } from "../parts/Fence";

/** A tool on the bench. Every tool says whether the person at the device would notice it. */
export function Pane({
	title,
	status,
	onClose,
	children,
}: {
	title: string;
	status?: ReactNode;
	onClose: () => void;
	children: ReactNode;
}) {
	return (
		<section aria-label={title} className="flex min-h-0 min-w-0 flex-1 flex-col border-line border-l first:border-l-0">
			<header className="flex items-center gap-2 border-line border-b bg-panel px-3 py-1">
				<h2 className="font-semibold">{title}</h2>
				<span
					className="inline-flex items-center gap-1 text-faint text-sm"
					title="The person at the device does not notice this tool."
				>
					<EyeSlashIcon className="size-3.5" aria-hidden="true" />
					quiet
				</span>
				<span className="ml-auto text-faint text-sm">{status}</span>
				<button
					type="button"
					className="rounded p-0.5 text-faint hover:text-word"
					aria-label={`Close ${title}`}
					onClick={onClose}
				>
					<XMarkIcon className="size-4" />
				</button>
			</header>
			<div className="min-h-0 flex-1">
				<Fence>{children}</Fence>
			</div>
		</section>
	);
}
