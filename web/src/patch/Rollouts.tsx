import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { useMay } from "../api/me";
import { usePages } from "../api/queries";
import { Heading } from "../parts/Heading";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { RolloutForm } from "./RolloutForm";
import { phaseColour, phaseWord, States } from "./words";

/** The rollouts, the latest first. */
export function Rollouts() {
	const [params, setParams] = useSearchParams();
	const may = useMay("updates.act");
	const [open, setOpen] = useState(params.has("new"));
	const list = usePages("/rollouts", { query: { limit: 50 } }, { refetchInterval: 10_000 });
	return (
		<div>
			<Heading title="Rollouts">
				{may && !open && (
					<button type="button" className="button ml-auto" onClick={() => setOpen(true)}>
						New rollout
					</button>
				)}
			</Heading>
			<div className="px-5 py-4">
				{open && may && (
					<RolloutForm
						onCancel={() => {
							setOpen(false);
							setParams({}, { replace: true });
						}}
					/>
				)}
				{list.isPending && <Waiting what="the rollouts" />}
				{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
				{list.data && list.rows.length === 0 && !open && (
					<Empty title="No rollout was begun yet.">
						A rollout brings approved updates to a first ring of devices, watches them, and goes on only where nothing
						went wrong. What is approved is said by{" "}
						<Link to="/approvals" className="link underline">
							rules
						</Link>
						.
					</Empty>
				)}
				{list.rows.length > 0 && (
					<Table
						rows={list.rows}
						list={list}
						id={(r) => r.id}
						columns={[
							{
								head: "Rollout",
								value: (r) => r.spec.name,
								show: (r) => (
									<Link className="link font-medium" to={`/rollouts/${r.id}`}>
										{r.spec.name}
									</Link>
								),
							},
							{
								head: "State",
								className: "max-w-72",
								show: (r) => (
									<>
										<span className={`font-medium ${phaseColour(r.phase)}`}>{phaseWord(r.phase)}</span>
										{!r.ended_at && `, ring ${Math.min(r.at + 1, r.rings.length)} of ${r.rings.length}`}
										{r.why && <span className="line-clamp-2 text-faint text-sm">{r.why}</span>}
									</>
								),
							},
							{
								head: "Devices, by ring",
								className: "w-[38%]",
								show: (r) => (
									<div
										className="grid gap-3"
										style={{ gridTemplateColumns: `repeat(${r.rings.length}, minmax(0, 1fr))` }}
									>
										{r.rings.map((ring) => (
											<div key={ring.name} title={ring.name}>
												<States counts={ring.states} phase={r.phase} />
											</div>
										))}
									</div>
								),
							},
							{ head: "Begun", value: (r) => r.begun_at, show: (r) => <Ago at={r.begun_at} /> },
							{ head: "By", value: (r) => r.begun_by },
						]}
					/>
				)}
			</div>
		</div>
	);
}
