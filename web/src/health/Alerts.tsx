import { Link, useSearchParams } from "react-router";
import { usePages } from "../api/queries";
import { Level } from "../parts/Condition";
import { Choice } from "../parts/Editor";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import type { Alert } from "./alerts";

const states = ["current", "open", "acknowledged", "snoozed", "resolved"] as const;

/** All alerts, the latest first. */
export function Alerts() {
	const [params, setParams] = useSearchParams();
	const state = states.find((s) => s === params.get("state")) ?? "current";
	return (
		<div className="mx-auto max-w-6xl px-5 py-5">
			<div className="mb-3 flex flex-wrap items-center gap-x-1 gap-y-1">
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
	const list = usePages("/alerts", { query: { limit: 100, state, device } });
	if (list.isPending) return <Waiting what="the alerts" />;
	if (list.isError) return <ProblemAlert error={list.error} retry={() => list.refetch()} />;
	const rows = list.rows;
	if (rows.length === 0) return <Empty title="There is no such alert.">Checks open alerts by themselves.</Empty>;
	return (
		<Table
			rows={rows}
			list={list}
			id={(a) => a.id}
			className="hover:bg-panel"
			columns={[
				{ head: "", className: "w-7", show: (a) => <Level level={a.level} check={a.check} /> },
				!device && {
					head: "Where",
					className: "whitespace-nowrap",
					value: (a) => a.device,
					show: (a) =>
						a.device_id ? (
							<Link to={`/devices/${a.device_id}`} className="font-medium hover:text-heather">
								{a.device}
							</Link>
						) : (
							<span className="font-medium">{a.site}</span>
						),
				},
				{
					head: "What",
					value: (a) => a.message,
					show: (a) => (
						<Link to={`/alerts/${a.id}`} className="hover:text-heather">
							{a.message}
						</Link>
					),
				},
				{ head: "State", className: "whitespace-nowrap", value: (a) => stateText(a), show: (a) => stateText(a) },
				{ head: "Opened", value: (a) => a.opened_at, show: (a) => <Ago at={a.opened_at} /> },
				{ head: "Ended", value: (a) => a.resolved_at, show: (a) => a.resolved_at && <Ago at={a.resolved_at} /> },
			]}
		/>
	);
}

/** Where an alert stands, in words. */
export function stateText(a: Alert) {
	return [a.state, a.muted && "muted", a.flapping && "flapping", a.assignee?.split("@")[0]].filter(Boolean).join(", ");
}
