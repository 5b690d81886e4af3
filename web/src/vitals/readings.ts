import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { answer, api, type Schemas } from "../api/client";
import type { Lines } from "./Chart";

/** A stretch of time, in seconds since 1970; without an end it follows the clock. */
export type Range = { name: string; seconds: number; until?: number };

export const ranges: Range[] = [
	{ name: "15 min", seconds: 900 },
	{ name: "Day", seconds: 86_400 },
	{ name: "Week", seconds: 7 * 86_400 },
	{ name: "Month", seconds: 30 * 86_400 },
	{ name: "Year", seconds: 365 * 86_400 },
	{ name: "2 years", seconds: 730 * 86_400 },
];

const buckets = 300;

export function useReadings(id: string, range: Range) {
	return useQuery({
		queryKey: ["readings", id, range.name, range.until],
		queryFn: async ({ signal }) => {
			const end = range.until ? range.until * 1000 : Date.now();
			const from = new Date(end - range.seconds * 1000).toISOString();
			const to = range.until ? new Date(end).toISOString() : undefined;
			const read = api.GET("/devices/{id}/readings", {
				params: { path: { id }, query: { from, to, buckets } },
				signal,
			});
			return (await answer(read)) as Schemas["ReadingHistory"]; // the other formats are not asked for
		},
		refetchInterval: range.until ? false : 30_000,
		placeholderData: keepPreviousData,
	});
}

/** One reading over time: means with least and greatest, by name, up to the live readings. */
export type Line = { name: string; title: string; unit: string; now?: number; lines: Lines };

type Point = [at: number, mean: number, least: number, most: number];

/** The history up to the first live reading, then the live readings, a line for each reading. */
export function useLines(history: Schemas["ReadingHistory"] | undefined, live: Schemas["Vitals"][], follows: boolean) {
	return useMemo(() => toLines(history, follows ? live : []), [history, live, follows]);
}

/** The lines by the name of their reading; a gap in the history is one in its line. */
export function toLines(history: Schemas["ReadingHistory"] | undefined, live: Schemas["Vitals"][]) {
	const begin = live[0] ? Date.parse(live[0].at) / 1000 : Number.POSITIVE_INFINITY;
	const gap = Math.max(3 * (history?.step_seconds ?? 0), 150);
	const times = history?.at.map((t) => Date.parse(t) / 1000) ?? [];
	const now = live.map((v) => ({ at: Date.parse(v.at) / 1000, values: liveReadings(v) }));
	return new Map(
		(history?.readings ?? []).map((r): [string, Line] => {
			const points: Point[] = [];
			times.forEach((at, i) => {
				const s = r.spans[i];
				if (s && at < begin) points.push([at, s.mean, s.min, s.max]);
			});
			for (const { at, values } of now) {
				const v = values.get(r.name);
				if (v !== undefined) points.push([at, v, v, v]);
			}
			return [
				r.name,
				{ name: r.name, title: r.title, unit: r.unit, now: points.at(-1)?.[1], lines: broken(points, gap) },
			];
		}),
	);
}

/** The readings of a live report, by the names that the history has. */
function liveReadings(v: Schemas["Vitals"]) {
	const m = new Map<string, number>([
		["cpu", v.cpu],
		["memory", v.memory],
		["swap", v.swap],
		["load", v.load1],
		["receive", v.receive],
		["transmit", v.transmit],
		["errors", v.network_errors ?? 0],
	]);
	for (const d of v.disks) {
		if (d.total_bytes) m.set(`disk ${d.mount}`, (100 * d.used_bytes) / d.total_bytes);
		if (d.latency_ms !== undefined) m.set(`latency ${d.mount}`, d.latency_ms);
	}
	for (const t of v.temperatures) m.set(`temperature ${t.sensor}`, t.celsius);
	for (const s of v.sensors ?? []) m.set(`${s.kind} ${s.name}`, s.value);
	if (v.log_on) m.set("log-on", v.log_on.seconds);
	return m;
}

/** Lines of means, least and greatest values. Between readings further apart than gap they break. */
function broken(points: Point[], gap: number): Lines {
	const times: number[] = [];
	const means: (number | null)[] = [];
	const least: (number | null)[] = [];
	const most: (number | null)[] = [];
	let last = Number.NaN;
	for (const [at, mean, low, high] of points) {
		if (at - last > gap) {
			times.push(last + 1);
			means.push(null);
			least.push(null);
			most.push(null);
		}
		times.push(at);
		means.push(mean);
		least.push(low);
		most.push(high);
		last = at;
	}
	return [times, means, least, most];
}
