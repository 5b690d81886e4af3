import { ArrowTopRightOnSquareIcon, EyeIcon, EyeSlashIcon, XMarkIcon } from "@heroicons/react/20/solid";
import { useMutation } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext } from "react";
import { ErrorBoundary } from "../parts/ErrorBoundary";
import { ProblemAlert } from "../parts/ProblemAlert";

/** Where a tool stands on a bench; nothing where it has a window of its own. */
export const OnBench = createContext<{ device: string; pane: string } | undefined>(undefined);

/** What stands in place of a tool's title and its buttons, where somebody else heads it. */
export const Headed = createContext<ReactNode>(undefined);

/** Opens a tool in a window of its own. */
export function openWindow(device: string, pane: string, more: Record<string, string> = {}) {
	const query = new URLSearchParams(more).toString();
	window.open(`/devices/${device}/window/${pane}${query && `?${query}`}`, "_blank", "popup,width=980,height=640");
}

/** A tool on the bench. Every tool says whether the person at the device would notice it. */
export function Pane({
	title,
	status,
	noticed,
	onClose,
	onWindow,
	children,
}: {
	title: string;
	status?: ReactNode;
	noticed?: string; // what the person at the device notices; nothing where it is not given
	onClose: () => void;
	onWindow?: () => void; // where it moves to a window of its own in a way of its own
	children: ReactNode;
}) {
	const place = useContext(OnBench);
	const heading = useContext(Headed);
	const Glyph = noticed ? EyeIcon : EyeSlashIcon;
	return (
		<section aria-label={title} className="@container flex min-h-0 min-w-0 flex-1 flex-col">
			<header className="flex items-center gap-2 border-line border-b bg-panel px-3 py-1">
				{heading ?? <h2 className="font-semibold">{title}</h2>}
				<span
					className={`inline-flex items-center gap-1 text-sm ${noticed ? "text-gorse" : "text-faint"}`}
					title={noticed ?? "The person at the device does not notice this tool."}
				>
					<Glyph className="size-3.5" aria-hidden="true" />
					{noticed ? "noticed" : "quiet"}
				</span>
				<span className="ml-auto truncate text-faint text-sm">{status}</span>
				{place && (
					<>
						<button
							type="button"
							className="rounded p-0.5 text-faint hover:text-word"
							aria-label={`${title} in a window of its own`}
							title="In a window of its own"
							onClick={() => {
								if (onWindow) return onWindow();
								openWindow(place.device, place.pane);
								onClose();
							}}
						>
							<ArrowTopRightOnSquareIcon className="size-5 p-0.5" />
						</button>
						<button
							type="button"
							className="rounded p-0.5 text-faint hover:text-word"
							aria-label={`Close ${title}`}
							onClick={onClose}
						>
							<XMarkIcon className="size-5" />
						</button>
					</>
				)}
			</header>
			<div className="flex min-h-0 flex-1 flex-col">
				<ErrorBoundary>{children}</ErrorBoundary>
			</div>
		</section>
	);
}

/** The line of controls above what a tool shows. */
export function Controls({ children }: { children: ReactNode }) {
	return <div className="flex flex-wrap items-center gap-1.5 border-line border-b px-3 py-1.5">{children}</div>;
}

/** An action at the device: what it says in the end, or why it was not done, stands below the tool. */
export function useAction<In>(act: (input: In) => Promise<{ message: string }>, then?: () => void) {
	const action = useMutation({ mutationFn: act, onSettled: then });
	const said = (
		<>
			{action.isPending && (
				<p role="status" className="border-line border-t px-3 py-1.5 text-faint">
					It is being done…
				</p>
			)}
			{action.isSuccess && (
				<p role="status" className="border-line border-t px-3 py-1.5">
					{action.data.message}
				</p>
			)}
			{action.isError && (
				<div className="border-line border-t px-3 py-1.5">
					<ProblemAlert error={action.error} />
				</div>
			)}
		</>
	);
	return { act: action.mutate, busy: action.isPending, said };
}
