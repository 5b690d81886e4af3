import { exactly } from "../parts/time";
import type { Mark } from "./marks";

/** What happened on the device, on the time axis of the charts: alerts, changes and actions, a lane each. */
export function Axis({ marks, from, to }: { marks: Mark[]; from: number; to: number }) {
	const seen = marks.filter((m) => (m.to ?? (m.kind === "alert" ? to : m.at)) >= from && m.at <= to);
	if (seen.length === 0) return null;
	const place = (at: number) => `${(100 * (Math.min(Math.max(at, from), to) - from)) / (to - from)}%`;
	const lanes = [
		{ kind: "alert", name: "Alerts" },
		{ kind: "change", name: "Changes" },
		{ kind: "action", name: "Actions" },
	] as const;
	return (
		<div role="group" className="mb-1 grid grid-cols-[4.5rem_1fr] gap-x-2" aria-label="What happened, on the same axis">
			{lanes.map(({ kind, name }) => {
				const own = seen.filter((m) => m.kind === kind);
				if (own.length === 0) return null;
				return (
					<div key={kind} className="contents">
						<span className="text-faint text-xs leading-4">
							{name} {own.length}
						</span>
						<div className="relative h-4 border-line border-b">
							{own.map((m) => (
								<Sign
									key={`${m.at} ${m.text}`}
									mark={m}
									left={place(m.at)}
									right={m.kind === "alert" ? place(m.to ?? to) : undefined}
								/>
							))}
						</div>
					</div>
				);
			})}
		</div>
	);
}

const colours = { critical: "bg-rowan", warning: "bg-gorse-fill", notice: "bg-mist" };

function Sign({ mark: m, left, right }: { mark: Mark; left: string; right?: string }) {
	const title = `${exactly(m.at)}: ${m.text}`;
	if (right !== undefined)
		return (
			<span
				role="img"
				title={title}
				aria-label={title}
				className={`absolute top-1 h-2 min-w-1 rounded-sm ${colours[m.level ?? "notice"]}`}
				style={{ left, width: `max(4px, calc(${right} - ${left}))` }}
			/>
		);
	return (
		<span
			role="img"
			title={title}
			aria-label={title}
			className={
				m.kind === "change"
					? "absolute top-1 size-2 -translate-x-1/2 rotate-45 bg-heather"
					: "absolute top-1 h-2 w-0.5 bg-edge"
			}
			style={{ left }}
		/>
	);
}
