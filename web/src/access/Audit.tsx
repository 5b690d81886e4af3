import { useDeferredValue, useState } from "react";
import { Link } from "react-router";
import { usePages } from "../api/queries";
import { TextField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";

const when = new Intl.DateTimeFormat("en-GB", {
	day: "numeric",
	month: "short",
	hour: "2-digit",
	minute: "2-digit",
	second: "2-digit",
});

/** The audit log: who did what, newest first. */
export function Audit() {
	const [typed, setTyped] = useState("");
	const text = useDeferredValue(typed.trim()) || undefined;
	const log = usePages("/audit", { query: { text } });
	if (log.isPending) return <Waiting what="the audit log" />;
	if (log.isError)
		return (
			<div className="p-6">
				<ProblemAlert error={log.error} retry={() => log.refetch()} />
			</div>
		);
	const { rows } = log;
	if (rows.length === 0 && !text)
		return <Empty title="Nothing was done yet.">Every change and every command will stand here.</Empty>;
	return (
		<div className="px-5 py-5">
			<h1 className="text-xl font-semibold">Audit log</h1>
			<p className="mb-4 text-faint">
				Who did what, newest first. Each entry is chained to the one before it, so that none can be altered unseen.
			</p>
			<div className="mb-3 flex flex-wrap items-center gap-2">
				<TextField
					label="Search the audit log"
					hidden
					className="max-w-xs"
					type="search"
					placeholder="Person, action, device, detail or result"
					maxLength={200}
					value={typed}
					onChange={setTyped}
				/>
				{rows.length === 0 && <span className="text-faint">No entry holds that.</span>}
				<span className="ml-auto text-faint">Export{text ? " what is found" : ""} as</span>
				{(["csv", "jsonl", "syslog"] as const).map((format) => (
					<a
						key={format}
						className="button-quiet"
						download
						href={`/api/v1/audit/export?format=${format}${text ? `&text=${encodeURIComponent(text)}` : ""}`}
					>
						{{ csv: "CSV", jsonl: "JSON lines", syslog: "syslog" }[format]}
					</a>
				))}
			</div>
			<Table
				rows={rows}
				list={log}
				id={(e) => e.seq}
				className="hover:bg-panel"
				columns={[
					{
						head: "When",
						title: (e) => `entry ${e.seq}, ${e.hash}`,
						className: "whitespace-nowrap tabular-nums",
						show: (e) => when.format(new Date(e.at)),
					},
					{ head: "Who", className: "whitespace-nowrap", value: (e) => e.actor },
					{ head: "Via", className: "whitespace-nowrap", value: (e) => e.via },
					{ head: "From", className: "tabular-nums", value: (e) => e.address },
					{ head: "What", className: "whitespace-nowrap", value: (e) => e.action },
					{
						head: "Device",
						className: "whitespace-nowrap",
						value: (e) => e.device_name,
						show: (e) =>
							e.device && (
								<Link to={`/devices/${e.device}`} className="link">
									{e.device_name}
								</Link>
							),
					},
					{
						head: "Detail",
						className: "w-2/5 font-mono text-sm break-words",
						value: (e) => e.detail,
					},
					{
						head: "Result",
						className: (e) => (e.result.startsWith("refused") || e.result.startsWith("not opened") ? "text-rowan" : ""),
						value: (e) => e.result,
					},
				]}
			/>
		</div>
	);
}
