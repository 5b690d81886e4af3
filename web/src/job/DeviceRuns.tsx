import { Link } from "react-router";
import { answer, api } from "../api/client";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { More, Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { usePages } from "../parts/usePages";
import { stateColour, stateWord } from "./states";

/** What jobs did at a device, those of policies too. */
export function DeviceRuns({ device }: { device: string }) {
	const list = usePages(["jobs", "at", device], (cursor, signal) =>
		answer(api.GET("/devices/{id}/runs", { params: { path: { id: device }, query: { cursor, limit: 50 } }, signal })),
	);
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
		<>
			<Table heads={["When", "Job", "State", "By", "What it said"]}>
				{list.rows.map((r) => (
					<tr key={r.run.id} className="border-line border-b align-top">
						<td className="py-1.5 pr-4 text-faint">
							<Ago at={r.run.began_at ?? r.run.due_at ?? ""} />
						</td>
						<td className="py-1.5 pr-4">
							<Link className="link" to={`/jobs/${r.job}`}>
								{r.job_name}
							</Link>
						</td>
						<td className={`whitespace-nowrap py-1.5 pr-4 ${stateColour(r.run.state)}`}>
							{stateWord(r.run.state)}
							{r.run.exit ? `, exit ${r.run.exit}` : ""}
						</td>
						<td className="py-1.5 pr-4">{r.by}</td>
						<td className="max-w-md truncate py-1.5 font-mono text-sm">
							{r.run.reason ?? r.run.output?.trimEnd().split("\n").at(-1)}
						</td>
					</tr>
				))}
			</Table>
			<More list={list} />
		</>
	);
}
