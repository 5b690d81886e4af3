import { ArrowDownTrayIcon } from "@heroicons/react/20/solid";
import { useState } from "react";
import type { Device, Schemas } from "../api/client";
import { Choice } from "../parts/Editor";
import { ProblemAlert } from "../parts/ProblemAlert";
import { bytes, percent } from "../parts/units";
import { Axis } from "./Axis";
import { Chart, type Lines } from "./Chart";
import { useMarks } from "./marks";
import { type Line, type Range, ranges, useLines, useReadings } from "./readings";
import { Standing } from "./Standing";

/** The device's readings as small charts: live, or of the past, with what happened on the same axis. */
export function Vitals({
	device: d,
	live,
	findings,
}: {
	device: Device;
	live: Schemas["Vitals"][];
	findings: Schemas["Finding"][];
}) {
	const [range, setRange] = useState<Range>(ranges[0] as Range);
	const [all, setAll] = useState(false);
	const history = useReadings(d.id, range);
	const follows = range.until === undefined;
	const lines = useLines(history.data, live, follows);
	const to = range.until ?? Date.now() / 1000;
	const from = to - range.seconds;
	const marks = useMarks(d.id, from);
	const charts = all ? [...lines.values()].map(single) : chosen(lines, findings);
	const zoom = (begin: number, end: number) =>
		setRange(
			end - begin < 20 || end > to + 1 ? range : { name: `${begin.toFixed(0)}`, seconds: end - begin, until: end },
		);
	return (
		<section aria-label="Vitals" className="border-line border-b px-4 pt-2 pb-1">
			<div className="mb-1 flex flex-wrap items-center gap-1">
				<h2 className="mr-2 font-semibold">Vitals</h2>
				<Choice of={ranges} chosen={range} name={(r) => r.name} onChoose={setRange} />
				{!follows && (
					<button type="button" className="button-quiet text-sm" onClick={() => setRange(ranges[0] as Range)}>
						Back to now
					</button>
				)}
				<span className="ml-auto text-faint text-sm">
					{follows && range === ranges[0] && live.length > 0
						? "read every 2 s while you look"
						: "drag across a chart to look closer"}
				</span>
				<button type="button" className="button-quiet text-sm" aria-pressed={all} onClick={() => setAll(!all)}>
					{all ? "Fewer" : `All ${lines.size}`}
				</button>
				<a
					className="button-quiet text-sm"
					title="Download as CSV"
					aria-label="Download as CSV"
					href={`/api/v1/devices/${d.id}/readings?format=csv&buckets=2000&from=${encodeURIComponent(new Date(from * 1000).toISOString())}&to=${encodeURIComponent(new Date(to * 1000).toISOString())}`}
				>
					<ArrowDownTrayIcon className="size-4" aria-hidden="true" />
				</a>
			</div>
			{history.isError && <ProblemAlert error={history.error} />}
			<div className={`grid grid-cols-2 gap-x-5 gap-y-1 xl:grid-cols-4 ${all ? "max-h-96 overflow-auto" : ""}`}>
				{charts.map((c) => (
					<figure key={c.name}>
						<figcaption className="flex items-baseline justify-between">
							<span className="truncate text-faint text-sm">
								{c.name} <Standing device={d} of={c.of} label={c.name} />
							</span>
							<span className="font-medium tabular-nums whitespace-nowrap">{c.now}</span>
						</figcaption>
						<Chart lines={c.lines} most={c.most} write={c.write} from={from} to={to} band={c.band} onZoom={zoom} />
					</figure>
				))}
			</div>
			<Axis marks={marks} from={from} to={to} />
		</section>
	);
}

type Shown = {
	name: string;
	of: string;
	now: string;
	lines: Lines;
	most?: number;
	write: (v: number) => string;
	band: boolean;
};

/** How a reading is written. */
function writer(unit: string) {
	if (unit === "B/s") return (v: number) => `${bytes(v)}/s`;
	if (unit === "%") return (v: number) => `${v.toFixed(0)} %`;
	return (v: number) => `${Number(v.toPrecision(3))}${unit ? ` ${unit}` : ""}`;
}

function single(l: Line): Shown {
	const write = writer(l.unit);
	return {
		name: l.title,
		of: l.name,
		now: l.now === undefined ? "" : write(l.now),
		lines: l.lines,
		most: l.unit === "%" ? 100 : undefined,
		write: l.unit === "B/s" ? bytes : write,
		band: true,
	};
}

/** The four charts that tell most: processor, memory, network, and the reading that is out of its range. */
function chosen(lines: Map<string, Line>, findings: Schemas["Finding"][]): Shown[] {
	const of = (kind: string) => [...lines.values()].filter((l) => l.name.split(" ")[0] === kind);
	const greatest = (list: Line[]) => list.toSorted((a, b) => (b.now ?? 0) - (a.now ?? 0))[0];
	const charts: Shown[] = [];
	const cpu = lines.get("cpu");
	const memory = lines.get("memory");
	const receive = lines.get("receive");
	const transmit = lines.get("transmit");
	if (cpu) charts.push({ ...single(cpu), name: "CPU", now: percent(cpu.now) });
	if (memory) charts.push({ ...single(memory), name: "Memory", now: percent(memory.now) });
	if (receive && transmit) {
		charts.push({
			name: "Network",
			of: "receive",
			now: receive.now === undefined ? "" : `${bytes(receive.now)}/s`,
			lines: [receive.lines[0], receive.lines[1] ?? [], transmit.lines[1] ?? []],
			write: bytes,
			band: false,
		});
	}
	// Checks are named like the readings that they judge, but for the one of a disk's trend.
	const wrong = findings
		.map((f) => lines.get(`${f.check === "disk-days" ? "disk" : f.check}${f.subject ? ` ${f.subject}` : ""}`))
		.find((l) => l && l !== cpu && l !== memory);
	const hot = greatest(of("temperature"));
	const last = wrong ?? greatest(of("disk")) ?? hot;
	if (last) charts.push(single(last));
	return charts;
}
