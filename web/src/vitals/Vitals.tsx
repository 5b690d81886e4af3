import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { Trouble } from "../parts/Trouble";
import { bytes, percent } from "../parts/units";
import { Chart, type Lines } from "./Chart";

const ranges = [
	{ name: "15 min", seconds: 900, buckets: 90 },
	{ name: "Day", seconds: 86_400, buckets: 288 },
	{ name: "Week", seconds: 7 * 86_400, buckets: 336 },
] as const;

type Reading = {
	at: number;
	cpu: number;
	memory: number;
	receive: number;
	transmit: number;
	disk: number;
	temperature?: number;
};

/** The device's readings as small charts: live, or of the past. */
export function Vitals({ id, live }: { id: string; live: Schemas["Vitals"][] }) {
	const [range, setRange] = useState<(typeof ranges)[number]>(ranges[0]);
	const history = useQuery({
		queryKey: ["vitals", id, range.name],
		queryFn: ({ signal }) => {
			const from = new Date(Date.now() - range.seconds * 1000).toISOString();
			return answer(
				api.GET("/devices/{id}/vitals", { params: { path: { id }, query: { from, buckets: range.buckets } }, signal }),
			);
		},
		refetchInterval: 30_000,
		placeholderData: keepPreviousData,
	});
	const readings = useMemo(() => join(history.data, live), [history.data, live]);
	const to = Math.max(Date.now() / 1000, readings.at(-1)?.at ?? 0);
	const from = to - range.seconds;
	const gap = Math.max(3 * (history.data?.step_seconds ?? 0), 150);
	const now = readings.at(-1);
	const column = (pick: (r: Reading) => number | undefined) => line(readings, gap, pick);
	const hot = readings.some((r) => r.temperature !== undefined);
	const charts = [
		{ name: "CPU", now: percent(now?.cpu), lines: column((r) => r.cpu), most: 100, write: whole, names: ["cpu"] },
		{
			name: "Memory",
			now: percent(now?.memory),
			lines: column((r) => r.memory),
			most: 100,
			write: whole,
			names: ["memory"],
		},
		{
			name: "Network",
			now: now ? `${bytes(now.receive)}/s in, ${bytes(now.transmit)}/s out` : "",
			lines: both(
				column((r) => r.receive),
				column((r) => r.transmit),
			),
			write: bytes,
			names: ["in", "out"],
		},
		hot
			? {
					name: "Hottest sensor",
					now: now?.temperature === undefined ? "" : `${now.temperature.toFixed(0)} °C`,
					lines: column((r) => r.temperature),
					most: 110,
					write: degrees,
					names: ["temperature"],
				}
			: {
					name: "Fullest disk",
					now: percent(now?.disk),
					lines: column((r) => r.disk),
					most: 100,
					write: whole,
					names: ["disk"],
				},
	];
	return (
		<section aria-label="Vitals" className="border-line border-b px-4 pt-2 pb-1">
			<div className="mb-1 flex items-center gap-1">
				<h2 className="mr-2 font-semibold">Vitals</h2>
				{ranges.map((r) => (
					<button
						key={r.name}
						type="button"
						aria-pressed={r === range}
						onClick={() => setRange(r)}
						className={`rounded-md px-2 py-0.5 text-sm ${r === range ? "bg-heather-tint font-medium text-heather" : "text-faint hover:text-word"}`}
					>
						{r.name}
					</button>
				))}
				<span className="ml-auto text-faint text-sm">{live.length > 0 ? "read every 2 s while you look" : ""}</span>
			</div>
			{history.isError && <Trouble error={history.error} />}
			<div className="grid grid-cols-2 gap-x-5 gap-y-1 xl:grid-cols-4">
				{charts.map((c) => (
					<figure key={c.name}>
						<figcaption className="flex items-baseline justify-between">
							<span className="text-faint text-sm">{c.name}</span>
							<span className="font-medium tabular-nums">{c.now}</span>
						</figcaption>
						<Chart lines={c.lines} most={c.most} write={c.write} from={from} to={to} names={c.names} />
					</figure>
				))}
			</div>
		</section>
	);
}

const whole = (v: number) => `${v.toFixed(0)} %`;
const degrees = (v: number) => `${v.toFixed(0)} °C`;

/** The history up to the first live reading, then the live readings. */
function join(history: Schemas["VitalsHistory"] | undefined, live: Schemas["Vitals"][]): Reading[] {
	const begin = live[0] ? Date.parse(live[0].at) / 1000 : Number.POSITIVE_INFINITY;
	const past: Reading[] = [];
	for (const p of history?.points ?? []) {
		const at = Date.parse(p.at) / 1000;
		if (at >= begin) break;
		past.push({
			at,
			cpu: p.cpu.mean,
			memory: p.memory.mean,
			receive: p.receive.mean,
			transmit: p.transmit.mean,
			disk: p.disk.mean,
			temperature: p.temperature?.mean,
		});
	}
	for (const v of live) {
		past.push({
			at: Date.parse(v.at) / 1000,
			cpu: v.cpu,
			memory: v.memory,
			receive: v.receive,
			transmit: v.transmit,
			disk: v.disks.reduce((most, d) => Math.max(most, d.total_bytes ? (100 * d.used_bytes) / d.total_bytes : 0), 0),
			temperature: v.temperatures.length ? Math.max(...v.temperatures.map((t) => t.celsius)) : undefined,
		});
	}
	return past;
}

/** One line of a chart. Between readings further apart than gap it is broken. */
function line(readings: Reading[], gap: number, pick: (r: Reading) => number | undefined): Lines {
	const times: number[] = [];
	const values: (number | null)[] = [];
	let last = Number.NaN;
	for (const r of readings) {
		if (r.at - last > gap) {
			times.push(last + 1);
			values.push(null);
		}
		times.push(r.at);
		values.push(pick(r) ?? null);
		last = r.at;
	}
	return [times, values];
}

/** Two lines over the same times. */
function both(a: Lines, b: Lines): Lines {
	return [a[0], a[1] ?? [], b[1] ?? []];
}
