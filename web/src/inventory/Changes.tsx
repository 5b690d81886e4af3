import { Link } from "react-router";
import { answer, api } from "../api/client";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { More, Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { usePages } from "../parts/usePages";

/** What changed, on one device or on all, the latest first. */
export function Changes({ device }: { device?: string }) {
	const list = usePages(["changes", device], (cursor, signal) =>
		answer(api.GET("/changes", { params: { query: { cursor, limit: 100, device } }, signal })),
	);
	if (list.isPending) return <Waiting what="what changed" />;
	if (list.isError) return <ProblemAlert error={list.error} retry={() => list.refetch()} />;
	const rows = list.rows;
	if (rows.length === 0)
		return (
			<Empty title="Nothing has changed.">
				Software, hardware, services, users and settings are watched from the first inventory on.
			</Empty>
		);
	return (
		<>
			<Table heads={["When", ...(device ? [] : ["Device"]), "Section", "What changed"]}>
				{rows.map((c) => (
					<tr key={c.id} className="border-line border-b align-top">
						<td className="w-28 py-1 pr-4 text-faint">
							<Ago at={c.at} />
						</td>
						{!device && (
							<td className="py-1 pr-4">
								<Link to={`/devices/${c.device_id}`} className="font-medium hover:text-heather">
									{c.device}
								</Link>
							</td>
						)}
						<td className="w-32 py-1 pr-4 text-faint">{c.section}</td>
						<td className="py-1">{c.summary}</td>
					</tr>
				))}
			</Table>
			<More list={list} />
		</>
	);
}
