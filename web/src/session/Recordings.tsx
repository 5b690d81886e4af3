import { useDeferredValue, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { answer, api } from "../api/client";
import { useDevices } from "../fleet/devices";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { More, Table } from "../parts/Table";
import { Ago, span } from "../parts/time";
import { bytes } from "../parts/units";
import { usePages } from "../parts/usePages";

/** What shells printed: looked for by what stands in it, and replayed. */
export function Recordings() {
	const [params, setParams] = useSearchParams();
	const device = params.get("device") ?? undefined;
	const [typed, setTyped] = useState("");
	const text = useDeferredValue(typed.trim()) || undefined;
	const name = useDevices().data?.get(device ?? "")?.name;
	const list = usePages(["recordings", device, text], (cursor, signal) =>
		answer(api.GET("/recordings", { params: { query: { cursor, device, text, limit: 50 } }, signal })),
	);
	return (
		<div className="px-5 py-5">
			<h1 className="text-xl font-semibold">Recordings{name && ` of ${name}`}</h1>
			<p className="mb-3 text-faint">
				What every shell printed and every screen showed, with its timing. They are kept as long as the rules of consent
				say; who plays one is on record.
			</p>
			<div className="mb-3 flex items-center gap-2">
				<input
					type="search"
					className="field max-w-xs"
					aria-label="Search what was printed"
					placeholder="What was printed"
					value={typed}
					maxLength={200}
					onChange={(e) => setTyped(e.target.value)}
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
				<Table heads={["Of", "Device", "Who", "Began", "Lasted", "Size", text ? "Line" : "Ran as", ""]}>
					{list.rows.map((r) => (
						<tr key={r.id} className="border-line border-b">
							<td className="py-1.5 pr-4">{r.kind}</td>
							<td className="py-1.5 pr-4 font-medium">
								<Link className="link" to={`/devices/${r.device_id}`}>
									{r.device}
								</Link>
							</td>
							<td className="py-1.5 pr-4">{r.actor}</td>
							<td className="py-1.5 pr-4">
								<Ago at={r.began_at} />
								{!r.ended_at && <span className="text-moss"> open</span>}
							</td>
							<td className="py-1.5 pr-4 tabular-nums">{span(r.seconds)}</td>
							<td className="py-1.5 pr-4 tabular-nums">
								{bytes(r.bytes)}
								{!r.complete && (
									<span className="text-gorse" title="Something is missing.">
										{" "}
										in part
									</span>
								)}
							</td>
							<td className={`max-w-md truncate py-1.5 pr-4 ${text ? "font-mono text-sm" : ""}`}>
								{text
									? r.excerpt
									: (r.kind === "shell" ? [r.person || "the agent", r.program] : [r.program])
											.filter(Boolean)
											.join(", ")}
							</td>
							<td className="py-1 text-right">
								<Link className="button-quiet" to={`/recordings/${r.id}`} aria-label={`Play the one of ${r.device}`}>
									Play
								</Link>
							</td>
						</tr>
					))}
				</Table>
			)}
			<More list={list} />
		</div>
	);
}
