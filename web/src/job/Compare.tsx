import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import type { Schemas } from "../api/client";
import { read, usePages } from "../api/queries";
import { CheckField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { stateColour, stateWord, workText } from "./states";
import { Differences } from "./Versions";

/** What came of a job beside what came of another, device by device. */
export function Compare() {
	const { id = "" } = useParams();
	const [params, setParams] = useSearchParams();
	const [all, setAll] = useState(false);
	const job = useQuery(read("/jobs/{id}", { path: { id } }));
	const others = useQuery(read("/jobs", { query: { limit: 200, origin: "all" } }));
	const j = job.data;
	// At first with the one before it of the same work; one that has several turns with itself.
	const like = others.data?.items.filter((o) => j && workText(o.work) === workText(j.work)) ?? [];
	const before = like.find((o) => j && o.created_at < j.created_at);
	const other = params.get("with") ?? (j?.turns && j.turns.length > 1 ? id : (before?.id ?? ""));
	if (job.isPending) return <Waiting what="the job" />;
	if (job.isError)
		return (
			<div className="p-6">
				<ProblemAlert error={job.error} retry={() => job.refetch()} />
			</div>
		);
	return (
		<div className="px-5 py-5">
			<div className="mb-4 flex flex-wrap items-center gap-3">
				<h1 className="font-semibold text-xl">
					<Link to={`/jobs/${id}`} className="hover:text-heather">
						{job.data.name}
					</Link>
				</h1>
				<label className="flex items-center gap-2">
					<span className="text-faint">beside</span>
					<select
						className="field w-96"
						value={other}
						onChange={(e) => setParams({ with: e.target.value }, { replace: true })}
					>
						<option value="">choose a job…</option>
						{(job.data.turns?.length ?? 0) > 1 && <option value={id}>its own turn before</option>}
						{others.data?.items
							.filter((o) => o.id !== id)
							.map((o) => (
								<option key={o.id} value={o.id}>
									{o.name}, {new Date(o.begin_at).toLocaleString()}
								</option>
							))}
					</select>
				</label>
				<CheckField className="ml-auto flex items-center gap-1.5" checked={all} onChange={setAll}>
					those without a difference too
				</CheckField>
			</div>
			{other ? (
				<Rows id={id} other={other} all={all} />
			) : (
				<Empty title="There is no earlier job of the same work.">Choose another job above.</Empty>
			)}
		</div>
	);
}

function Rows({ id, other, all }: { id: string; other: string; all: boolean }) {
	const list = usePages("/jobs/{id}/comparison", {
		path: { id },
		query: { with: other, changed: !all || undefined, limit: 100 },
	});
	if (list.isPending) return <Waiting what="both jobs" />;
	if (list.isError) return <ProblemAlert error={list.error} retry={() => list.refetch()} />;
	if (list.rows.length === 0)
		return <Empty title="They came out alike.">No device has another state or output than before.</Empty>;
	return (
		<Table
			rows={list.rows}
			list={list}
			id={(r) => r.device}
			columns={[
				{
					head: "Device",
					className: "font-medium",
					value: (r) => r.device_name,
					show: (r) => (
						<Link className="link" to={`/devices/${r.device}`}>
							{r.device_name}
						</Link>
					),
				},
				{
					head: "Before",
					className: (r) => `whitespace-nowrap ${stateColour(r.before?.state ?? "")}`,
					show: (r) => <State run={r.before} />,
				},
				{
					head: "After",
					className: (r) => `whitespace-nowrap ${stateColour(r.after?.state ?? "")}`,
					show: (r) => <State run={r.after} />,
				},
				{
					head: "What differs",
					className: "w-1/2",
					show: (r) =>
						r.before && r.after ? (
							<Differences before={text(r.before)} after={text(r.after)} />
						) : (
							<span className="text-faint">it has no run in the {r.before ? "later" : "earlier"} one</span>
						),
				},
			]}
		/>
	);
}

const text = (r: Schemas["Run"]) => [r.output, r.reason].filter(Boolean).join("\n");

function State({ run }: { run?: Schemas["Run"] }) {
	if (!run) return <span className="text-faint">–</span>;
	return (
		<>
			{stateWord(run.state)}
			{run.ended_at && (
				<span className="block text-faint text-sm">
					<Ago at={run.ended_at} />
				</span>
			)}
		</>
	);
}
