import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { useMay } from "../api/me";
import { read } from "../api/queries";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { Released, Severity, stateColour, stateWord } from "./words";

/** What a device misses, and what rollouts installed. */
export function DeviceUpdates({ device }: { device: string }) {
	const may = useMay("updates.act");
	const one = useQuery({ ...read("/devices/{id}/updates", { path: { id: device } }), refetchInterval: 30_000 });
	const ask = useMutation({
		mutationFn: () => answer(api.POST("/updates/asks", { body: { devices: [device] } })),
	});
	if (one.isPending) return <Waiting what="the updates" />;
	if (one.isError) return <ProblemAlert error={one.error} retry={() => one.refetch()} />;
	const d = one.data;
	if (!d.told_at)
		return (
			<Empty title="The device has not told of updates yet.">
				It does soon after it connects, where its system has a source of updates that the agent knows.
			</Empty>
		);
	return (
		<div className="grid gap-6 xl:grid-cols-2">
			<section>
				<h3 className="mb-1 font-semibold">
					{d.missing.length === 0 ? "Nothing is missing" : `${d.missing.length} missing`}
					<span className="ml-2 font-normal text-faint">
						exposure {d.exposure.score.toFixed(0)}, told <Ago at={d.told_at} />
					</span>
					{may && (
						<button
							type="button"
							className="button-quiet ml-2 font-normal"
							disabled={ask.isPending || ask.isSuccess}
							onClick={() => ask.mutate()}
						>
							{ask.isSuccess ? "Its sources are asked" : "Ask its sources now"}
						</button>
					)}
				</h3>
				{ask.isError && <ProblemAlert error={ask.error} />}
				{d.problem && <p className="mb-2 text-gorse">{d.problem}</p>}
				{d.missing.length > 0 && (
					<Table
						rows={d.missing}
						id={(x) => x.update.source + x.update.name}
						columns={[
							{
								head: "Update",
								value: (x) => x.update.name,
								show: (x) => (
									<>
										<span className="font-medium">{x.update.name}</span>
										<span className="block text-faint text-sm">
											{x.update.from} → {x.update.to}
										</span>
									</>
								),
							},
							{ head: "What it is", show: (x) => <Severity of={x.update} /> },
							{ head: "Released", show: (x) => <Released of={x.update} seen={x.since} /> },
							{ head: "Decision", show: (x) => decided(x) },
						]}
					/>
				)}
			</section>
			<section>
				<h3 className="mb-1 font-semibold">By rollouts</h3>
				{d.patched.length === 0 ? (
					<p className="text-faint">No rollout has installed anything here yet.</p>
				) : (
					<Table
						rows={d.patched}
						id={(p) => `${p.job_id}${p.source}${p.name}`}
						columns={[
							{ head: "When", className: "text-faint", value: (p) => p.at, show: (p) => p.at && <Ago at={p.at} /> },
							{
								head: "Update",
								value: (p) => p.name,
								show: (p) => (
									<>
										{p.name}
										<span className="block text-faint text-sm">
											{p.from} → {p.to}
										</span>
										{p.log && (
											<details className="max-w-md text-sm">
												<summary className="link cursor-pointer">what it printed</summary>
												<pre className="mt-1 overflow-x-auto whitespace-pre-wrap font-mono text-xs">{p.log}</pre>
											</details>
										)}
									</>
								),
							},
							{
								head: "State",
								className: (p) => stateColour(p.state),
								show: (p) => (
									<>
										<Link className="link" to={`/jobs/${p.job_id}`}>
											{stateWord(p.state)}
										</Link>
										{p.restarted_at && (
											<span className="block text-faint text-sm">
												restarted <Ago at={p.restarted_at} />
											</span>
										)}
										{p.reason && <span className="block max-w-xs text-faint text-sm">{p.reason}</span>}
									</>
								),
							},
							{
								head: "Rollout",
								value: (p) => p.rollout,
								show: (p) => (
									<Link className="link" to={`/rollouts/${p.rollout_id}`}>
										{p.rollout}
									</Link>
								),
							},
						]}
					/>
				)}
			</section>
		</div>
	);
}

function decided({ update, decision: d }: Schemas["DecidedUpdate"]) {
	if (update.blocked) return <span className="text-gorse">{update.blocked}</span>;
	const colour =
		d.state === "approved" ? "text-moss" : d.state === "undecided" || d.state === "held" ? "text-gorse" : "text-mist";
	return (
		<>
			<span className={colour}>
				{d.state === "deferred" ? "not yet" : d.state}
				{d.from && (
					<>
						, approved <Ago at={d.from} />
					</>
				)}
			</span>
			{(d.why || d.rule) && <span className="block text-faint text-sm">{d.why || d.rule}</span>}
		</>
	);
}
