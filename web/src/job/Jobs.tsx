import { Link, useSearchParams } from "react-router";
import { usePages } from "../api/queries";
import { Choice } from "../parts/Editor";
import { Heading } from "../parts/Heading";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { Progress, stateText, workText } from "./states";
import { whenText } from "./WhenField";

const origins = [
	["person", "begun by people"],
	["response", "responses of policies"],
	["drift", "put right by policies"],
	["rollout", "of rollouts"],
	["all", "all"],
] as const;

/** The jobs, the latest first. */
export function Jobs() {
	const [params, setParams] = useSearchParams();
	const origin = origins.find(([o]) => o === params.get("origin")) ?? origins[0];
	const list = usePages("/jobs", { query: { limit: 50, origin: origin[0] } }, { refetchInterval: 30_000 });
	return (
		<div>
			<Heading title="Jobs">
				<span className="flex flex-wrap items-center gap-1 sm:ml-auto">
					<Choice
						of={origins}
						chosen={origin}
						name={(o) => o[1]}
						onChoose={(o) => setParams(o[0] === "person" ? {} : { origin: o[0] }, { replace: true })}
					/>
				</span>
			</Heading>
			<div className="px-5 py-4">
				{list.isPending && <Waiting what="the jobs" />}
				{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
				{list.data && list.rows.length === 0 && (
					<Empty title={origin[0] === "person" ? "No job was begun yet." : "There is none."}>
						{origin[0] === "person" ? (
							<>
								Choose a{" "}
								<Link to="/scripts" className="link underline">
									script
								</Link>{" "}
								or a{" "}
								<Link to="/packages" className="link underline">
									package
								</Link>
								, and the devices. Those that are away are served when they are back.
							</>
						) : (
							<>
								<Link to="/policies" className="link underline">
									Policies
								</Link>{" "}
								begin jobs by themselves when a check fails, or when a device is not as it is wanted;{" "}
								<Link to="/rollouts" className="link underline">
									rollouts
								</Link>{" "}
								begin one for each ring.
							</>
						)}
					</Empty>
				)}
				{list.rows.length > 0 && (
					<Table
						rows={list.rows}
						list={list}
						id={(j) => j.id}
						columns={[
							{
								head: "Job",
								value: (j) => j.name,
								show: (j) => (
									<>
										<Link className="link font-medium" to={`/jobs/${j.id}`}>
											{j.name}
										</Link>
										<span className="block text-faint text-sm">
											{[workText(j.work) !== j.name && workText(j.work), whenText(j.when)].filter(Boolean).join(", ")}
										</span>
									</>
								),
							},
							{
								head: "State",
								className: "whitespace-nowrap",
								show: (j) => (
									<>
										{stateText(j)}
										{j.next_at && (
											<span className="block text-faint text-sm">
												next <Ago at={j.next_at} />
											</span>
										)}
									</>
								),
							},
							{ head: "Runs", className: "w-[40%]", show: (j) => <Progress counts={j.counts} /> },
							{ head: "Begun", value: (j) => j.begin_at, show: (j) => <Ago at={j.begin_at} /> },
							{ head: "By", value: (j) => j.created_by },
						]}
					/>
				)}
			</div>
		</div>
	);
}
