import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { useMay } from "../api/me";
import { read } from "../api/queries";

/** Something on the time axis beside the readings, in seconds since 1970. */
export type Mark = {
	kind: "alert" | "change" | "action";
	at: number;
	to?: number;
	text: string;
	level?: "notice" | "warning" | "critical";
};

const most = 200;

/** The alerts, changes and actions of a device since a time. */
export function useMarks(id: string, from: number): Mark[] {
	const since = new Date(Math.floor(from / 600) * 600_000).toISOString(); // so that the question changes rarely
	const may = useMay("audit.read");
	const alerts = useQuery({
		...read("/alerts", { query: { device: id, from: since, limit: most } }),
		placeholderData: (old) => old,
	}).data;
	const changes = useQuery({
		...read("/changes", { query: { device: id, from: since, limit: most } }),
		placeholderData: (old) => old,
	}).data;
	const actions = useQuery({ ...read("/audit", { query: { device: id, limit: most } }), enabled: may }).data;
	const runs = useQuery({
		...read("/devices/{id}/runs", { path: { id }, query: { limit: most } }),
		enabled: useMay("scripts.see"),
	}).data;
	return useMemo(() => {
		const seconds = (t: string) => Date.parse(t) / 1000;
		return [
			...(alerts?.items ?? []).map(
				(a): Mark => ({
					kind: "alert",
					at: seconds(a.since),
					to: a.resolved_at ? seconds(a.resolved_at) : undefined,
					text: a.message,
					level: a.level,
				}),
			),
			...(changes?.items ?? []).map((c): Mark => ({ kind: "change", at: seconds(c.at), text: c.summary })),
			...(actions?.items ?? [])
				.filter((e) => e.action.endsWith(".start") && e.action !== "response.start") // which its run tells of
				.map((e): Mark => ({ kind: "action", at: seconds(e.at), text: `${e.actor}: ${e.action} ${e.detail ?? ""}` })),
			...(runs?.items ?? [])
				.filter((r) => r.run.began_at)
				.map(
					(r): Mark => ({
						kind: "action",
						at: seconds(r.run.began_at ?? ""),
						text: `${r.by}: ${r.job_name}, ${r.run.state}`,
					}),
				),
		];
	}, [alerts, changes, actions, runs]);
}
