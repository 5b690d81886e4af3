import { useQuery } from "@tanstack/react-query";
import { read } from "../api/queries";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";

/** What was last done to a device, and by whom. Nothing is shown where nothing was done. */
export function Actions({ device }: { device: string }) {
	const log = useQuery(read("/audit", { query: { device, limit: 12 } }));
	if (!log.data?.items.length) return null;
	return (
		<section aria-label="What was done" className="mx-auto w-full max-w-2xl px-6 pb-6">
			<h2 className="mb-1 font-semibold">What was done here</h2>
			<Table
				rows={log.data.items}
				id={(e) => e.seq}
				columns={[
					{ head: "When", className: "text-faint", value: (e) => e.at, show: (e) => <Ago at={e.at} /> },
					{ head: "Who", className: "whitespace-nowrap", value: (e) => e.actor },
					{ head: "What", className: "whitespace-nowrap", value: (e) => e.action },
					{
						head: "Detail",
						title: (e) => e.detail,
						className: "max-w-60 truncate font-mono text-sm",
						value: (e) => e.detail,
					},
					{ head: "Result", value: (e) => e.result },
				]}
			/>
		</section>
	);
}
