import { Link } from "react-router";
import { usePages } from "../api/queries";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";

/** What changed, on one device or on all, the latest first. */
export function Changes({ device }: { device?: string }) {
	const list = usePages("/changes", { query: { limit: 100, device } });
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
		<Table
			rows={rows}
			list={list}
			id={(c) => c.id}
			columns={[
				{ head: "When", className: "w-28 text-faint", value: (c) => c.at, show: (c) => <Ago at={c.at} /> },
				!device && {
					head: "Device",
					value: (c) => c.device,
					show: (c) => (
						<Link to={`/devices/${c.device_id}`} className="font-medium hover:text-heather">
							{c.device}
						</Link>
					),
				},
				{ head: "Section", className: "w-32 text-faint", value: (c) => c.section },
				{ head: "What changed", value: (c) => c.summary },
			]}
		/>
	);
}
