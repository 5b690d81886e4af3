import { Link } from "react-router";
import { usePages } from "../api/queries";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { stateColour, stateWord } from "./states";

/** What jobs did at a device, those of policies too. */
export function DeviceRuns({ device }: { device: string }) {
	const list = usePages("/devices/{id}/runs", { path: { id: device }, query: { limit: 50 } });
	if (list.isPending) return <Waiting what="the jobs" />;
	if (list.isError) return <ProblemAlert error={list.error} retry={() => list.refetch()} />;
	if (list.rows.length === 0)
		return (
			<Empty title="No job did anything here yet.">
				<Link to="/scripts" className="link underline">
					Scripts
				</Link>{" "}
				and{" "}
				<Link to="/packages" className="link underline">
					packages
				</Link>{" "}
				are run by jobs; policies begin them by themselves.
			</Empty>
		);
	return (
		<Table
			rows={list.rows}
			list={list}
			id={(r) => r.run.id}
			columns={[
				{ head: "When", className: "text-faint", show: (r) => <Ago at={r.run.began_at ?? r.run.due_at ?? ""} /> },
				{
					head: "Job",
					value: (r) => r.job_name,
					show: (r) => (
						<Link className="link" to={`/jobs/${r.job}`}>
							{r.job_name}
						</Link>
					),
				},
				{
					head: "State",
					className: (r) => `whitespace-nowrap ${stateColour(r.run.state)}`,
					show: (r) => (
						<>
							{stateWord(r.run.state)}
							{r.run.exit ? `, exit ${r.run.exit}` : ""}
						</>
					),
				},
				{ head: "By", value: (r) => r.by },
				{
					head: "What it said",
					className: "max-w-md truncate font-mono text-sm",
					show: (r) => r.run.reason ?? r.run.output?.trimEnd().split("\n").at(-1),
				},
			]}
		/>
	);
}
