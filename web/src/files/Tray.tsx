import { PauseIcon, PlayIcon, XMarkIcon } from "@heroicons/react/20/solid";
import { bytes } from "../parts/units";
import { drop, pause, resume, type Transfer, useTransfers } from "./transfers";

/** The files on their way to devices, below every page. */
export function Tray() {
	const all = useTransfers();
	if (all.length === 0) return null;
	const over = all.filter((t) => t.state === "done");
	return (
		<section aria-label="Transfers" className="max-h-56 overflow-auto border-line border-t bg-panel px-5 py-2">
			<header className="flex items-center gap-3">
				<h2 className="font-semibold">Transfers</h2>
				<span className="text-faint text-sm tabular-nums">
					{over.length} of {all.length} done
				</span>
				{over.length > 0 && (
					<button
						type="button"
						className="button-quiet ml-auto text-sm"
						onClick={() => {
							for (const t of over) drop(t.key);
						}}
					>
						Clear those done
					</button>
				)}
			</header>
			<ul>
				{all.map((t) => (
					<Line key={t.key} transfer={t} />
				))}
			</ul>
		</section>
	);
}

function Line({ transfer: t }: { transfer: Transfer }) {
	const share = t.size ? Math.floor((100 * t.done) / t.size) : t.state === "done" ? 100 : 0;
	return (
		<li className="flex items-center gap-3 py-0.5">
			<span className="min-w-0 flex-1 truncate" title={t.path}>
				{t.path} <span className="text-faint">to {t.deviceName}</span>
				{t.problem && (
					<span className="text-rowan">
						{" "}
						– {t.problem.problem.title} {t.problem.problem.detail}
					</span>
				)}
			</span>
			<progress className="h-1.5 w-32 accent-heather" max={100} value={share} aria-label={`${t.path}: ${share} %`} />
			<span className="w-44 text-right text-sm tabular-nums">
				{t.state === "done"
					? `${bytes(t.size)}, compared`
					: t.state === "sending"
						? `${bytes(t.done)} of ${bytes(t.size)}, ${bytes(t.speed)}/s`
						: `${t.state}, ${share} %`}
			</span>
			<span className="flex w-28 justify-end">
				{t.state === "failed" && t.problem?.problem.status === 409 && (
					<button type="button" className="button-quiet text-sm" onClick={() => resume(t.key, true)}>
						Replace
					</button>
				)}
				{(t.state === "sending" || t.state === "waiting") && (
					<button
						type="button"
						className="button-quiet px-1"
						aria-label={`Pause ${t.path}`}
						onClick={() => pause(t.key)}
					>
						<PauseIcon className="size-4" />
					</button>
				)}
				{(t.state === "paused" || t.state === "failed") && (
					<button
						type="button"
						className="button-quiet px-1"
						aria-label={`Go on with ${t.path}`}
						onClick={() => resume(t.key)}
					>
						<PlayIcon className="size-4" />
					</button>
				)}
				<button
					type="button"
					className="button-quiet px-1"
					aria-label={`Give up ${t.path}`}
					onClick={() => drop(t.key)}
				>
					<XMarkIcon className="size-4" />
				</button>
			</span>
		</li>
	);
}
