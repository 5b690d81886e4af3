import { Link, useSearchParams } from "react-router";
import { answer, api } from "../api/client";
import { Level } from "../parts/Condition";
import { Choice } from "../parts/Editor";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { More, Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { usePages } from "../parts/usePages";
import type { Alert } from "./alerts";

const states = ["current", "open", "acknowledged", "snoozed", "resolved"] as const;

/** All alerts, the latest first. */
export function Alerts() {
	const [params, setParams] = useSearchParams();
	const state = states.find((s) => s === params.get("state")) ?? "current";
	return (
		<div className="mx-auto max-w-6xl px-5 py-5">
			<div className="mb-3 flex items-center gap-1">
				<h1 className="mr-3 text-xl font-semibold">Alerts</h1>
				<Choice
					of={states}
					chosen={state}
					name={(s) => s}
					onChoose={(s) => setParams({ state: s }, { replace: true })}
				/>
			</div>
			<AlertList state={state} />
		</div>
	);
}

/** A list of alerts, of all devices or of one. */
export function AlertList({ state, device }: { state?: (typeof states)[number]; device?: string }) {
	const list = usePages(["alerts", state, device], (cursor, signal) =>
		answer(api.GET("/alerts", { params: { query: { cursor, limit: 100, state, device } }, signal })),
	);
	if (list.isPending) return <Waiting what="the alerts" />;
	if (list.isError) return <ProblemAlert error={list.error} retry={() => list.refetch()} />;
	const rows = list.rows;
	if (rows.length === 0) return <Empty title="There is no such alert.">Checks open alerts by themselves.</Empty>;
	return (
		<>
			<Table heads={["", ...(device ? [] : ["Where"]), "What", "State", "Opened", "Ended"]}>
				{rows.map((a) => (
					<tr key={a.id} className="border-line border-b align-top hover:bg-panel">
						<td className="w-7 py-1.5">
							<Level level={a.level} check={a.check} />
						</td>
						{!device && (
							<td className="py-1.5 pr-4 whitespace-nowrap">
								{a.device_id ? (
									<Link to={`/devices/${a.device_id}`} className="font-medium hover:text-heather">
										{a.device}
									</Link>
								) : (
									<span className="font-medium">{a.site}</span>
								)}
							</td>
						)}
						<td className="py-1.5 pr-4">
							<Link to={`/alerts/${a.id}`} className="hover:text-heather">
								{a.message}
							</Link>
						</td>
						<td className="py-1.5 pr-4 whitespace-nowrap">{stateText(a)}</td>
						<td className="py-1.5 pr-4">
							<Ago at={a.opened_at} />
						</td>
						<td className="py-1.5">{a.resolved_at && <Ago at={a.resolved_at} />}</td>
					</tr>
				))}
			</Table>
			<More list={list} />
		</>
	);
}

/** Where an alert stands, in words. */
export function stateText(a: Alert) {
	return [a.state, a.muted && "muted", a.flapping && "flapping", a.assignee?.split("@")[0]].filter(Boolean).join(", ");
}
