import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { More, Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { usePages } from "../parts/usePages";
import { stateColour, stateWord, workText } from "./states";
import { Differences } from "./Versions";

/** What came of a job beside what came of another, device by device. */
export function Compare() {
	const { id = "" } = useParams();
	const [params, setParams] = useSearchParams();
	const [all, setAll] = useState(false);
	const job = useQuery({
		queryKey: ["job", id],
		queryFn: ({ signal }) => answer(api.GET("/jobs/{id}", { params: { path: { id } }, signal })),
	});
	const others = useQuery({
		queryKey: ["jobs", "all", "names"],
		queryFn: ({ signal }) => answer(api.GET("/jobs", { params: { query: { limit: 200, origin: "all" } }, signal })),
	});
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
				<label className="ml-auto flex items-center gap-1.5">
					<input type="checkbox" checked={all} onChange={(e) => setAll(e.target.checked)} />
					those without a difference too
				</label>
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
	const list = usePages(["job", id, "comparison", other, all], (cursor, signal) =>
		answer(
			api.GET("/jobs/{id}/comparison", {
				params: { path: { id }, query: { with: other, changed: !all || undefined, cursor, limit: 100 } },
				signal,
			}),
		),
	);
	if (list.isPending) return <Waiting what="both jobs" />;
	if (list.isError) return <ProblemAlert error={list.error} retry={() => list.refetch()} />;
	if (list.rows.length === 0)
		return <Empty title="They came out alike.">No device has another state or output than before.</Empty>;
	return (
		<>
			<Table heads={["Device", "Before", "After", "What differs"]}>
				{list.rows.map((r) => (
					<tr key={r.device} className="border-line border-b align-top">
						<td className="py-1.5 pr-4 font-medium">
							<Link className="link" to={`/devices/${r.device}`}>
								{r.device_name}
							</Link>
						</td>
						<State run={r.before} />
						<State run={r.after} />
						<td className="w-1/2 py-1.5">
							{r.before && r.after ? (
								<Differences before={text(r.before)} after={text(r.after)} />
							) : (
								<span className="text-faint">it has no run in the {r.before ? "later" : "earlier"} one</span>
							)}
						</td>
					</tr>
				))}
			</Table>
			<More list={list} />
		</>
	);
}

const text = (r: Schemas["Run"]) => [r.output, r.reason].filter(Boolean).join("\n");

function State({ run }: { run?: Schemas["Run"] }) {
	if (!run) return <td className="py-1.5 pr-4 text-faint">–</td>;
	return (
		<td className={`whitespace-nowrap py-1.5 pr-4 ${stateColour(run.state)}`}>
			{stateWord(run.state)}
			{run.ended_at && (
				<span className="block text-faint text-sm">
					<Ago at={run.ended_at} />
				</span>
			)}
		</td>
	);
}
