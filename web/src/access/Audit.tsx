import { useDeferredValue, useState } from "react";
import { Link } from "react-router";
import { answer, api } from "../api/client";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { More } from "../parts/Table";
import { usePages } from "../parts/usePages";

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
	const log = usePages(["audit", text], (cursor, signal) =>
		answer(api.GET("/audit", { params: { query: { cursor, text } }, signal })),
	);
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
				<input
					type="search"
					className="field max-w-xs"
					aria-label="Search the audit log"
					placeholder="Person, action, device, detail or result"
					value={typed}
					maxLength={200}
					onChange={(e) => setTyped(e.target.value)}
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
			<table className="w-full border-collapse">
				<thead>
					<tr className="border-line border-b">
						{["When", "Who", "Via", "From", "What", "Device", "Detail", "Result"].map((h) => (
							<th key={h} scope="col" className="head py-1.5 pr-4">
								{h}
							</th>
						))}
					</tr>
				</thead>
				<tbody>
					{rows.map((e) => (
						<tr key={e.seq} className="border-line border-b align-top hover:bg-panel">
							<td className="py-1.5 pr-4 whitespace-nowrap tabular-nums" title={`entry ${e.seq}, ${e.hash}`}>
								{when.format(new Date(e.at))}
							</td>
							<td className="py-1.5 pr-4 whitespace-nowrap">{e.actor}</td>
							<td className="py-1.5 pr-4 whitespace-nowrap">{e.via}</td>
							<td className="py-1.5 pr-4 tabular-nums">{e.address}</td>
							<td className="py-1.5 pr-4 whitespace-nowrap">{e.action}</td>
							<td className="py-1.5 pr-4 whitespace-nowrap">
								{e.device && (
									<Link to={`/devices/${e.device}`} className="link">
										{e.device_name}
									</Link>
								)}
							</td>
							<td className="max-w-xs py-1.5 pr-4 font-mono text-sm break-words">{e.detail}</td>
							<td
								className={`py-1.5 ${e.result.startsWith("refused") || e.result.startsWith("not opened") ? "text-rowan" : ""}`}
							>
								{e.result}
							</td>
						</tr>
					))}
				</tbody>
			</table>
			<More list={log} />
		</div>
	);
}
