import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { meQuery, useMay } from "../api/me";
import { read, usePages } from "../api/queries";
import { Confirm } from "../parts/Confirm";
import { SelectField } from "../parts/fields";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { Unowned } from "../parts/Unowned";
import { phaseColour, phaseWord, Severity, States, soakText, stateColour, stateWord } from "./words";

type RolloutOf = Schemas["Rollout"];
type Action = Schemas["RolloutAction"];

/** A rollout as a board of its rings, with what its gates found. */
export function Rollout() {
	const { id = "" } = useParams();
	const queries = useQueryClient();
	const one = useQuery({
		...read("/rollouts/{id}", { path: { id } }),
		refetchInterval: (q) => (q.state.data?.ended_at ? false : 5_000),
	});
	const may = useMay("updates.act");
	const steer = useMutation({
		mutationFn: (body: Action) => answer(api.PATCH("/rollouts/{id}", { params: { path: { id } }, body })),
		onSuccess: (r) => queries.setQueryData(read("/rollouts/{id}", { path: { id } }).queryKey, r),
	});
	if (one.isPending) return <Waiting what="the rollout" />;
	if (one.isError && !one.data)
		return (
			<div className="p-6">
				<ProblemAlert error={one.error} retry={() => one.refetch()} />
			</div>
		);
	const r = one.data;
	return (
		<div className="px-5 py-5">
			<div className="flex flex-wrap items-center gap-3">
				<Link to="/rollouts" className="link">
					Rollouts
				</Link>
				<h1 className="font-semibold text-xl">{r.spec.name}</h1>
				<span className={`font-medium ${phaseColour(r.phase)}`}>{phaseWord(r.phase)}</span>
				<span className="text-faint">
					begun <Ago at={r.begun_at} /> by {r.begun_by}
					{r.agreed && `, agreed to by ${r.agreed}`}
				</span>
				<Actions of={r} busy={steer.isPending} onDo={(action) => steer.mutate({ action })} />
			</div>
			{r.why && (
				<p
					className={`mt-3 max-w-4xl rounded-md px-3 py-2 ${r.phase === "held" || r.phase === "reverting" ? "bg-rowan-tint" : "bg-panel"}`}
					role="status"
				>
					{r.phase === "held" && <strong>Held. </strong>}
					{r.why}
				</p>
			)}
			{r.unowned && (
				<Unowned what="rollout" busy={steer.isPending} may={may} onAdopt={() => steer.mutate({ action: "adopt" })} />
			)}
			{steer.isError && <ProblemAlert error={steer.error} />}
			<ol
				aria-label="Rings"
				className="my-4 grid items-start gap-3"
				style={{ gridTemplateColumns: `repeat(auto-fit, minmax(17rem, 1fr))` }}
			>
				{r.rings.map((ring, i) => (
					<RingCard key={ring.name} of={r} ring={ring} n={i} />
				))}
			</ol>
			<div className="grid gap-8 xl:grid-cols-[minmax(0,2fr)_minmax(0,3fr)]">
				<Brought of={r} busy={steer.isPending} onLeaveOut={(without) => steer.mutate({ without })} />
				<Devices of={r} />
			</div>
		</div>
	);
}

function Actions({ of: r, busy, onDo }: { of: RolloutOf; busy: boolean; onDo: (action: Action["action"]) => void }) {
	const may = useMay("updates.act");
	const me = useQuery(meQuery).data;
	if (!may || r.ended_at) return null;
	const begun = r.rings.some((x) => x.job_id && !x.reverted);
	return (
		<div className="ml-auto flex gap-1">
			{r.phase === "asking" && me?.email !== r.begun_by && (
				<button type="button" className="button" disabled={busy} onClick={() => onDo("agree")}>
					Agree
				</button>
			)}
			{(r.phase === "patching" || r.phase === "soaking") && (
				<button type="button" className="button-quiet" disabled={busy} onClick={() => onDo("pause")}>
					Pause
				</button>
			)}
			{r.phase === "paused" && (
				<button type="button" className="button" disabled={busy} onClick={() => onDo("resume")}>
					Go on
				</button>
			)}
			{begun && r.phase !== "reverting" && (
				<Confirm
					label="Take back"
					title="Take back what was installed?"
					verb="Take it back"
					disabled={busy}
					onDo={() => onDo("revert")}
				>
					The devices of all rings that were patched go back to the versions that they had. Then the rollout is held.
				</Confirm>
			)}
			{r.phase === "held" && !r.rings[r.at]?.reverted && (
				<Confirm
					label="Go on all the same"
					title="Go on to the next ring?"
					verb="Go on"
					disabled={busy}
					onDo={() => onDo("release")}
				>
					It is noted who had it go on though the gate held it.
				</Confirm>
			)}
			{r.phase === "held" && (
				<button type="button" className="button" disabled={busy} onClick={() => onDo("again")}>
					Patch ring {r.at + 1} again
				</button>
			)}
			<Confirm label="Cancel" title="Cancel this rollout?" verb="Cancel it" disabled={busy} onDo={() => onDo("cancel")}>
				No further device is patched. What was installed stays.
			</Confirm>
		</div>
	);
}

/** How one ring fares. */
function RingCard({ of: r, ring, n }: { of: RolloutOf; ring: Schemas["RolloutRing"]; n: number }) {
	const now = n === r.at && !r.ended_at;
	const spec = r.spec.rings[n];
	const state = ring.verdict
		? ring.verdict.go || ring.released
			? "passed"
			: "held"
		: now
			? phaseWord(r.phase)
			: n < r.at
				? "nothing to do"
				: "to come";
	return (
		<li
			className={`rounded-lg border p-3 ${now ? "border-heather bg-raised" : "border-line bg-panel"}`}
			aria-current={now || undefined}
		>
			<p className="flex items-baseline gap-2">
				<span className="font-semibold">
					{n + 1}. {ring.name}
				</span>
				<span
					className={`ml-auto text-sm ${state === "passed" ? "text-moss" : state === "held" ? "text-rowan" : now ? phaseColour(r.phase) : "text-faint"}`}
				>
					{state}
				</span>
			</p>
			<div className="my-2">
				<States counts={ring.states} phase={r.phase} />
			</div>
			<p className="text-faint text-sm">
				{ring.until && !ring.verdict ? (
					<>
						watched, judged <Ago at={ring.until} />
					</>
				) : (
					soakText(spec)
				)}
				{ring.began_at && (
					<>
						, begun <Ago at={ring.began_at} />
					</>
				)}
				{(ring.try ?? 0) > 0 && `, try ${(ring.try ?? 0) + 1}`}
				{ring.job_id && (
					<>
						,{" "}
						<Link className="link underline" to={`/jobs/${ring.job_id}`}>
							its runs
						</Link>
					</>
				)}
			</p>
			{ring.past?.map((p) => (
				<p key={p.at} className="mt-2 border-line border-t pt-2 text-sm">
					<span className="text-gorse">
						Before, <Ago at={p.at} />
						{p.reverted ? ", taken back" : ", held"}:
					</span>{" "}
					{p.verdict?.why}
				</p>
			))}
			{ring.released && <p className="mt-1 text-gorse text-sm">It went on though it was held, by {ring.released}.</p>}
			{ring.verdict && (
				<ul className="mt-2 space-y-1.5 border-line border-t pt-2 text-sm">
					{ring.verdict.evidence.map((e) => (
						<li key={e.what} className="flex gap-2">
							<Finding of={e.finding} />
							<span>{e.why}</span>
						</li>
					))}
				</ul>
			)}
		</li>
	);
}

const findings = { fine: ["✓", "text-moss"], bad: ["✕", "text-rowan"], unclear: ["?", "text-gorse"] } as const;

function Finding({ of: f }: { of: keyof typeof findings }) {
	return (
		<span className={`w-3 shrink-0 text-center font-semibold ${findings[f][1]}`} role="img" aria-label={f}>
			{findings[f][0]}
		</span>
	);
}

/** What a rollout installs. */
function Brought({
	of: r,
	busy,
	onLeaveOut,
}: {
	of: RolloutOf;
	busy: boolean;
	onLeaveOut: (without: string[]) => void;
}) {
	const may = useMay("updates.act");
	const without = r.spec.without ?? [];
	const out = (x: RolloutOf["updates"][number]) => without.includes(x.update.name);
	return (
		<section aria-label="Updates">
			<h2 className="mb-1 font-semibold">Updates</h2>
			{r.updates.length === 0 && <p className="text-faint">What is installed is chosen as each ring begins.</p>}
			{r.updates.length > 0 && (
				<Table
					rows={r.updates}
					id={(x) => x.update.source + x.update.name + x.update.to}
					columns={[
						{
							head: "Update",
							className: (x) => (out(x) ? "text-faint line-through" : ""),
							show: (x) => (
								<>
									<span className="font-medium">{x.update.title || x.update.name}</span>
									<span className="block text-faint text-sm">
										{x.update.name} {x.update.to}
									</span>
									<span className="inline-block text-sm">
										<Severity of={x.update} />
									</span>
								</>
							),
						},
						{ head: "Devices", className: "w-36", show: (x) => <States counts={x.states} phase={r.phase} /> },
						{
							head: "",
							actions: true,
							show: (x) =>
								may &&
								!r.ended_at && (
									<button
										type="button"
										className="button-quiet whitespace-nowrap"
										disabled={busy}
										aria-label={`${out(x) ? "Take in" : "Leave out"} ${x.update.name}`}
										onClick={() =>
											onLeaveOut(out(x) ? without.filter((n) => n !== x.update.name) : [...without, x.update.name])
										}
									>
										{out(x) ? "Take in" : "Leave out"}
									</button>
								),
						},
					]}
				/>
			)}
		</section>
	);
}

/** The devices of a rollout, those that failed first in each ring. */
function Devices({ of: r }: { of: RolloutOf }) {
	const [ring, setRing] = useState("");
	const list = usePages(
		"/rollouts/{id}/devices",
		{ path: { id: r.id }, query: { limit: 100, ring: ring === "" ? undefined : Number(ring) } },
		{ refetchInterval: r.ended_at ? undefined : 10_000 },
	);
	return (
		<section aria-label="Devices">
			<div className="mb-1 flex items-center gap-3">
				<h2 className="font-semibold">Devices</h2>
				<SelectField label="Which ring" hidden className="w-56 py-1" value={ring} onChange={setRing}>
					<option value="">of all rings</option>
					{r.rings.map((x, i) => (
						<option key={x.name} value={i}>
							{i + 1}. {x.name} ({x.devices})
						</option>
					))}
				</SelectField>
			</div>
			{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
			<Table
				rows={list.rows}
				list={list}
				id={(d) => d.device_id}
				columns={[
					{
						head: "Device",
						value: (d) => d.device,
						show: (d) => (
							<Link className="link font-medium" to={`/devices/${d.device_id}`}>
								{d.device}
							</Link>
						),
					},
					{ head: "Ring", className: "text-faint", show: (d) => r.rings[d.ring]?.name },
					{
						head: "State",
						className: (d) => stateColour(d.state),
						show: (d) => (
							<>
								{stateWord(d.state)}
								{d.ended_at && (
									<span className="text-faint">
										{" "}
										<Ago at={d.ended_at} />
									</span>
								)}
								{d.reason && <span className="block max-w-md text-sm text-word">{d.reason}</span>}
							</>
						),
					},
					{
						head: "New alerts",
						className: "tabular-nums",
						show: (d) => (d.alerts ? <span className="text-rowan">{d.alerts}</span> : ""),
					},
				]}
			/>
		</section>
	);
}
