import { PauseIcon, PlayIcon } from "@heroicons/react/20/solid";
import { type ReactNode, useEffect, useMemo, useState } from "react";
import { Choice } from "../parts/Editor";
import { CheckField } from "../parts/fields";
import { span } from "../parts/time";

const speeds = [0.5, 1, 2, 4, 8] as const;
const idle = 2; // seconds; longer pauses are cut to this where they are skipped

export type TimeAxis = ReturnType<typeof useAxis>;

/** Where a recording is being played: its time axis, with long pauses cut where they are skipped. */
export function useAxis(events: { at: number }[]) {
	const [at, setAt] = useState(0);
	const [playing, setPlaying] = useState(true);
	const [speed, setSpeed] = useState<number>(1);
	const [skip, setSkip] = useState(true);
	const times = useMemo(() => {
		let [sum, before] = [0, 0];
		return events.map((e) => {
			sum += skip ? Math.min(e.at - before, idle) : e.at - before;
			before = e.at;
			return sum;
		});
	}, [events, skip]);
	const end = times.at(-1) ?? 0;
	const after = useMemo(() => times.findIndex((x) => x > at + 1e-6), [times, at]);

	useEffect(() => {
		if (!playing) return;
		let last = performance.now();
		const timer = setInterval(() => {
			const now = performance.now();
			const by = ((now - last) / 1000) * speed;
			last = now;
			setAt((old) => {
				if (old + by >= end) setPlaying(false);
				return Math.min(old + by, end);
			});
		}, 50);
		return () => clearInterval(timer);
	}, [playing, speed, end]);
	return {
		at,
		setAt,
		playing,
		setPlaying,
		speed,
		setSpeed,
		skip,
		setSkip,
		times,
		end,
		upTo: after < 0 ? events.length : after, // how many events there have been
	};
}

/** The controls of a recording that is played. Marks are moments at which something was done. */
export function Axis({ axis, marks = [], children }: { axis: TimeAxis; marks?: number[]; children?: ReactNode }) {
	const { at, end, playing } = axis;
	return (
		<div className="mb-2 flex flex-wrap items-center gap-3">
			<button
				type="button"
				className="button"
				onClick={() => {
					if (at >= end) axis.setAt(0);
					axis.setPlaying(!playing);
				}}
			>
				{playing ? <PauseIcon className="size-4" /> : <PlayIcon className="size-4" />}
				{playing ? "Pause" : "Play"}
			</button>
			<span className="relative min-w-48 flex-1">
				<input
					type="range"
					className="w-full accent-heather"
					aria-label="Moment"
					min={0}
					max={end}
					step={0.1}
					value={at}
					onChange={(e) => axis.setAt(Number(e.target.value))}
				/>
				{marks.length > 0 && (
					<svg
						viewBox="0 0 1000 4"
						preserveAspectRatio="none"
						aria-hidden="true"
						className="pointer-events-none absolute inset-x-2 -bottom-0.5 h-1"
					>
						<path
							className="stroke-gorse-fill"
							strokeWidth={2}
							d={marks.map((m) => `M${Math.round((1000 * m) / Math.max(end, 0.1))} 0v4`).join("")}
						/>
					</svg>
				)}
			</span>
			<span className="w-32 text-right text-faint tabular-nums">
				{span(at)} of {span(end)}
			</span>
			<div role="toolbar" aria-label="Speed">
				<Choice
					of={speeds}
					chosen={speeds.find((s) => s === axis.speed)}
					name={(s) => `${s}×`}
					onChoose={axis.setSpeed}
				/>
			</div>
			<CheckField className="flex items-center gap-1.5" checked={axis.skip} onChange={(v) => axis.setSkip(v)}>
				Skip idle
			</CheckField>
			{children}
		</div>
	);
}
