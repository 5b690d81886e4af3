import { useDeferredValue, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { usePages } from "../api/queries";
import { useDevices } from "../fleet/devices";
import { TextField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago, span } from "../parts/time";
import { bytes } from "../parts/units";

/** What shells printed: looked for by what stands in it, and replayed. */
export function Recordings() {
	const [params, setParams] = useSearchParams();
	const device = params.get("device") ?? undefined;
	const [typed, setTyped] = useState("");
	const text = useDeferredValue(typed.trim()) || undefined;
	const name = useDevices().data?.get(device ?? "")?.name;
	const list = usePages("/recordings", { query: { device, text, limit: 50 } });
	return (
		<div className="px-5 py-5">
			<h1 className="text-xl font-semibold">Recordings{name && ` of ${name}`}</h1>
			<p className="mb-3 text-faint">
				What every shell printed and every screen showed, with its timing. They are kept as long as the rules of consent
				say; who plays one is on record.
			</p>
			<div className="mb-3 flex items-center gap-2">
				<TextField
					label="Search what was printed"
					hidden
					className="max-w-xs"
					type="search"
					placeholder="What was printed"
					maxLength={200}
					value={typed}
					onChange={setTyped}
				/>
				{device && (
					<button type="button" className="button-quiet" onClick={() => setParams({})}>
						Of every device
					</button>
				)}
			</div>
			{list.isPending && <Waiting what="the recordings" />}
			{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
			{list.data && list.rows.length === 0 && (
				<Empty title={text ? "It was printed in none." : "No shell and no screen was opened yet."}>
					{text
						? "Look for another word of it."
						: "Open one, or a screen, on a device's bench: it is recorded from its beginning."}
				</Empty>
			)}
			{list.rows.length > 0 && (
				<Table
					rows={list.rows}
					list={list}
					id={(r) => r.id}
					columns={[
						{ head: "Of", value: (r) => r.kind },
						{
							head: "Device",
							className: "font-medium",
							value: (r) => r.device,
							show: (r) => (
								<Link className="link" to={`/devices/${r.device_id}`}>
									{r.device}
								</Link>
							),
						},
						{ head: "Who", value: (r) => r.actor },
						{
							head: "Began",
							value: (r) => r.began_at,
							show: (r) => (
								<>
									<Ago at={r.began_at} />
									{!r.ended_at && <span className="text-moss"> open</span>}
								</>
							),
						},
						{ head: "Lasted", className: "tabular-nums", value: (r) => r.seconds, show: (r) => span(r.seconds) },
						{
							head: "Size",
							className: "tabular-nums",
							show: (r) => (
								<>
									{bytes(r.bytes)}
									{!r.complete && (
										<span className="text-gorse" title="Something is missing.">
											{" "}
											in part
										</span>
									)}
								</>
							),
						},
						{
							head: text ? "Line" : "Ran as",
							className: (_r) => `max-w-md truncate ${text ? "font-mono text-sm" : ""}`,
							show: (r) =>
								text
									? r.excerpt
									: (r.kind === "shell" ? [r.person || "the agent", r.program] : [r.program])
											.filter(Boolean)
											.join(", "),
						},
						{
							head: "",
							actions: true,
							show: (r) => (
								<Link className="button-quiet" to={`/recordings/${r.id}`} aria-label={`Play the one of ${r.device}`}>
									Play
								</Link>
							),
						},
					]}
				/>
			)}
		</div>
	);
}
