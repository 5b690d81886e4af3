import { Link } from "react-router";
import { answer, api } from "../api/client";
import { More, Table } from "../parts/Table";
import { Empty, Trouble, Waiting } from "../parts/Trouble";
import { Ago } from "../parts/time";
import { usePages } from "../parts/usePages";
import { Progress } from "./states";

/** The jobs, the latest first. */
export function Jobs() {
	const list = usePages(
		["jobs"],
		(cursor, signal) => answer(api.GET("/jobs", { params: { query: { cursor, limit: 50 } }, signal })),
		30_000,
	);
	return (
		<div className="px-5 py-5">
			<div className="mb-4 flex items-center gap-3">
				<h1 className="font-semibold text-xl">Jobs</h1>
				<Link to="/scripts" className="button ml-auto">
					Run a script
				</Link>
			</div>
			{list.isPending && <Waiting what="the jobs" />}
			{list.isError && <Trouble error={list.error} retry={() => list.refetch()} />}
			{list.data && list.rows.length === 0 && (
				<Empty title="No job was begun yet.">
					Choose a script of the library, and the devices that are to run it. Those that are away run it when they are
					back.
				</Empty>
			)}
			{list.rows.length > 0 && (
				<Table heads={["Job", "State", "Runs", "Begun", "By"]}>
					{list.rows.map((j) => (
						<tr key={j.id} className="border-line border-b align-top">
							<td className="py-2 pr-4">
								<Link className="link font-medium" to={`/jobs/${j.id}`}>
									{j.name}
								</Link>
								{j.script.name !== j.name && <span className="block text-faint text-sm">{j.script.name}</span>}
							</td>
							<td className="py-2 pr-4">{j.state}</td>
							<td className="w-[40%] py-2 pr-4">
								<Progress counts={j.counts} />
							</td>
							<td className="py-2 pr-4">
								<Ago at={j.begin_at} />
							</td>
							<td className="py-2 pr-4">{j.created_by}</td>
						</tr>
					))}
				</Table>
			)}
			<More list={list} />
		</div>
	);
}
