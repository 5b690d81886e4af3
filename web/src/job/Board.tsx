import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { useMay } from "../api/me";
import { read, usePages } from "../api/queries";
import { Confirm } from "../parts/Confirm";
import { SelectField } from "../parts/fields";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago, span } from "../parts/time";
import { Unowned } from "../parts/Unowned";
import { Progress, stateColour, states, stateText, stateWord, workText } from "./states";
import { whenText } from "./WhenField";

/** A job while it goes on, and what came of it. */
export function Board() {
	const { id = "" } = useParams();
	const queries = useQueryClient();
	const go = useNavigate();
	const may = useMay("scripts.act");
	const path = { id };
	const job = useQuery({
		...read("/jobs/{id}", { path }),
		refetchInterval: (q) => (q.state.data?.ended_at ? false : 10_000),
	});
	const steer = useMutation({
		mutationFn: (action: "pause" | "resume" | "cancel" | "adopt") =>
			answer(api.PATCH("/jobs/{id}", { params: { path }, body: { action } })),
		onSuccess: (j) => queries.setQueryData(read("/jobs/{id}", { path }).queryKey, j),
	});
	const retry = useMutation({
		mutationFn: () => answer(api.POST("/jobs/{id}/retry", { params: { path } })),
		onSuccess: (j) => go(`/jobs/${j.id}`),
	});
	if (job.isPending) return <Waiting what="the job" />;
	if (job.isError && !job.data)
		return (
			<div className="p-6">
				<ProblemAlert error={job.error} retry={() => job.refetch()} />
			</div>
		);
	const j = job.data;
	const over = !!j.ended_at;
	const again = ["failed", "timed-out", "interrupted", "missed"].reduce((n, s) => n + (j.counts[s] ?? 0), 0);
	return (
		<div className="px-5 py-5">
			<div className="flex flex-wrap items-center gap-3">
				<h1 className="font-semibold text-xl">{j.name}</h1>
				<span className="text-faint">
					{workText(j.work) !== j.name && `${workText(j.work)}, `}
					{stateText(j)}, begun <Ago at={j.begin_at} /> by {j.created_by}
				</span>
				<div className="ml-auto flex gap-1">
					<Link className="button-quiet" to={`/jobs/${id}/compare`}>
						Compare
					</Link>
					<a className="button-quiet" href={`/api/v1/jobs/${id}/export?format=csv`} download>
						CSV
					</a>
					<a className="button-quiet" href={`/api/v1/jobs/${id}/export?format=jsonl`} download>
						JSON lines
					</a>
				</div>
				{may && (
					<div className="flex gap-1">
						{!over && j.state === "running" && (
							<button type="button" className="button-quiet" onClick={() => steer.mutate("pause")}>
								Pause
							</button>
						)}
						{!over && j.state === "paused" && (
							<button type="button" className="button-quiet" onClick={() => steer.mutate("resume")}>
								Go on
							</button>
						)}
						{!over && j.state !== "cancelled" && (
							<Confirm label="Cancel" title="Cancel this job?" verb="Cancel it" onDo={() => steer.mutate("cancel")}>
								What runs is ended, and no more begins. What has run stays as it is.
							</Confirm>
						)}
						{over && again > 0 && (
							<button type="button" className="button" disabled={retry.isPending} onClick={() => retry.mutate()}>
								Try again on {again}
							</button>
						)}
					</div>
				)}
			</div>
			{whenText(j.when) && (
				<p className="mt-1">
					It runs {whenText(j.when)}.
					{j.next_at && (
						<>
							{" "}
							Next <Ago at={j.next_at} />.
						</>
					)}
				</p>
			)}
			{j.unowned && <Unowned what="job" busy={steer.isPending} may={may} onAdopt={() => steer.mutate("adopt")} />}
			{j.reason && <p className="mt-1 text-rowan">It stopped: {j.reason}.</p>}
			{!over && (j.counts.waiting ?? 0) > 0 && j.limits.wait_hours ? (
				<p className="mt-1 text-faint">Devices that are away are awaited for {j.limits.wait_hours} hours.</p>
			) : null}
			{(steer.isError || retry.isError) && <ProblemAlert error={steer.error ?? retry.error} />}
			<div className="my-4">
				<Progress counts={j.counts} />
			</div>
			<div className="grid gap-6 xl:grid-cols-[minmax(0,2fr)_minmax(0,3fr)]">
				<Groups groups={j.groups ?? []} />
				<Runs job={j} />
			</div>
		</div>
	);
}

/** Outputs that are alike, the most frequent first. */
function Groups({ groups }: { groups: Schemas["JobGroup"][] }) {
	return (
		<section aria-label="Outputs">
			<h2 className="mb-2 font-semibold">Outputs, alike together</h2>
			{groups.length === 0 && <p className="text-faint">No run is over yet.</p>}
			<ul className="space-y-3">
				{groups.map((g) => (
					<li key={`${g.state} ${g.output}`} className="rounded-md border border-line bg-panel p-2.5">
						<p className={`text-sm ${stateColour(g.state)}`}>
							<span className="font-semibold tabular-nums">{g.runs}</span> {stateWord(g.state)}
						</p>
						<pre className="mt-1 max-h-40 overflow-auto whitespace-pre-wrap font-mono text-sm">
							{g.output || "(nothing was printed)"}
						</pre>
					</li>
				))}
			</ul>
		</section>
	);
}

function Runs({ job }: { job: Schemas["Job"] }) {
	const [state, setState] = useState("");
	const [turn, setTurn] = useState("");
	const [open, setOpen] = useState("");
	const slowest = state === "slowest";
	const list = usePages("/jobs/{id}/runs", {
		path: { id: job.id },
		query: {
			limit: 100,
			state: slowest ? undefined : state || undefined,
			turn: turn || undefined,
			slowest: slowest || undefined,
		},
	});
	return (
		<section aria-label="Runs">
			<div className="mb-2 flex items-center gap-3">
				<h2 className="font-semibold">Runs</h2>
				<SelectField label="Which runs" hidden className="w-56 py-1" value={state} onChange={setState}>
					<option value="">all, those that failed first</option>
					<option value="slowest">all, the slowest first</option>
					{states
						.filter(([s]) => (job.counts[s] ?? 0) > 0)
						.map(([s, word]) => (
							<option key={s} value={s}>
								{word} ({job.counts[s]})
							</option>
						))}
				</SelectField>
				{(job.turns?.length ?? 0) > 0 && (
					<SelectField label="Which turn" hidden className="w-56 py-1" value={turn} onChange={setTurn}>
						<option value="">of all turns</option>
						{job.turns?.map((t) => (
							<option key={t} value={t}>
								{t}
							</option>
						))}
					</SelectField>
				)}
			</div>
			{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
			<Table
				rows={list.rows}
				list={list}
				id={(r) => r.id}
				columns={[
					{
						head: "Device",
						className: "font-medium",
						value: (r) => r.device_name,
						show: (r) => (
							<>
								<Link className="link" to={`/devices/${r.device}`}>
									{r.device_name}
								</Link>
								{r.turn && !turn && <span className="block font-normal text-faint text-sm">{r.turn}</span>}
							</>
						),
					},
					{
						head: "State",
						className: (r) => `whitespace-nowrap ${stateColour(r.state)}`,
						show: (r) => (
							<>
								{stateWord(r.state)}
								{r.exit ? `, exit ${r.exit}` : ""}
							</>
						),
					},
					{
						head: "Took",
						className: "tabular-nums",
						show: (r) => r.began_at && r.ended_at && took(r.began_at, r.ended_at),
					},
					{
						head: "Printed",
						className: "w-1/2",
						show: (r) =>
							open === r.id ? (
								<Output job={job.id} run={r.id} onClose={() => setOpen("")} />
							) : (
								<button
									type="button"
									className="block w-full max-w-md truncate text-left font-mono text-sm hover:text-heather"
									aria-label={`What ${r.device_name} printed`}
									onClick={() => setOpen(r.id)}
								>
									{r.reason ?? (r.output?.split("\n").find((l) => l.trim()) || "…")}
								</button>
							),
					},
				]}
			/>
			{list.data && list.rows.length === 0 && (
				<p className="py-2 text-faint">
					{job.counts && Object.keys(job.counts).length > 0
						? "None is in this state."
						: "Its runs come with its next time, or with what it waits for."}
				</p>
			)}
		</section>
	);
}

function took(from: string, to: string) {
	const seconds = (Date.parse(to) - Date.parse(from)) / 1000;
	return seconds < 10 ? `${seconds.toFixed(1)} s` : span(seconds);
}

/** All that is kept of what a run printed. */
function Output({ job, run, onClose }: { job: string; run: string; onClose: () => void }) {
	const one = useQuery(read("/jobs/{id}/runs/{run}", { path: { id: job, run } }));
	if (one.isPending) return <Waiting what="what it printed" />;
	if (one.isError) return <ProblemAlert error={one.error} />;
	const r = one.data;
	return (
		<div>
			{r.reason && <p>{r.reason}</p>}
			<pre className="max-h-96 overflow-auto whitespace-pre-wrap rounded-md border border-line bg-panel p-2 font-mono text-sm">
				{r.output || "(nothing was printed)"}
				{r.dropped ? `\n[${r.dropped.toLocaleString()} bytes were not kept]\n` : ""}
				{r.tail}
			</pre>
			<button type="button" className="button-quiet mt-1" onClick={onClose}>
				Less
			</button>
		</div>
	);
}
