import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { meQuery, useMayEverywhere } from "../access/me";
import { answer, api, type Schemas } from "../api/client";
import { AskLine, Confirm } from "../parts/Confirm";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { More, Table } from "../parts/Table";
import { Ago, span } from "../parts/time";
import { bytes } from "../parts/units";
import { usePages } from "../parts/usePages";

/** The sessions with a device, the latest first. */
export function Sessions({ device }: { device: string }) {
	const queries = useQueryClient();
	const list = usePages(
		["sessions", device],
		(cursor, signal) =>
			answer(
				api.GET("/devices/{id}/sessions", { params: { path: { id: device }, query: { cursor, limit: 50 } }, signal }),
			),
		10_000,
	);
	const note = useMutation({
		mutationFn: ({ id, text }: { id: string; text: string }) =>
			answer(api.PUT("/sessions/{id}/note", { params: { path: { id } }, body: { note: text } })),
		onSettled: () => queries.invalidateQueries({ queryKey: ["sessions", device] }),
	});
	const end = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/sessions/{id}", { params: { path: { id } } })),
		onSettled: () => queries.invalidateQueries({ queryKey: ["sessions", device] }),
	});
	const me = useQuery(meQuery).data;
	const manages = useMayEverywhere("people.manage");
	if (list.isPending) return <Waiting what="the sessions" />;
	if (list.isError) return <ProblemAlert error={list.error} retry={() => list.refetch()} />;
	const all = list.rows;
	if (all.length === 0)
		return (
			<Empty title="Nobody has worked on this device yet.">
				Open a tool above: who, when and with whose consent stands here afterwards.
			</Empty>
		);
	return (
		<>
			{note.isError && <ProblemAlert error={note.error} />}
			{end.isError && <ProblemAlert error={end.error} />}
			<Table heads={["Tool", "Who", "Began", "Lasted", "Consent", "Done", "Moved", "Note"]}>
				{all.map((s) => (
					<tr key={s.id} className="border-line border-b align-top">
						<td className="py-1 pr-4 font-medium">{s.tool}</td>
						<td className="py-1 pr-4" title={`from ${s.address}, by ${s.via}`}>
							{s.actor}
						</td>
						<td className="py-1 pr-4">
							<Ago at={s.began_at} />
						</td>
						<td className="py-1 pr-4 tabular-nums" title={s.end}>
							{span((Date.parse(s.ended_at ?? s.last_at) - Date.parse(s.began_at)) / 1000)}
							{!s.ended_at && <span className="text-moss"> open</span>}
							{!s.ended_at && (manages || s.actor === me?.email) && (
								<Confirm
									label="End"
									title={`End the ${s.tool} session of ${s.actor}?`}
									verb="End it"
									onDo={() => end.mutate(s.id)}
								>
									What they have open there ends at once. They may begin another one as long as their role permits it.
								</Confirm>
							)}
						</td>
						<td className="py-1 pr-4">{consent(s)}</td>
						<td className="py-1 pr-4 text-right tabular-nums">{s.actions || ""}</td>
						<td className="py-1 pr-4 text-right tabular-nums">{bytes(s.received_bytes + s.sent_bytes)}</td>
						<td className="py-1">
							{s.note}{" "}
							<AskLine
								label={s.note ? "Change" : "Add"}
								title="Note at this session"
								verb="Keep it"
								field="Note"
								usual={s.note}
								onDo={(text) => note.mutate({ id: s.id, text })}
							/>
						</td>
					</tr>
				))}
			</Table>
			<More list={list} />
		</>
	);
}

function consent(s: Schemas["ToolSession"]) {
	return s.interrupted_seconds >= 1 ? `${s.consent}; interrupted them for ${span(s.interrupted_seconds)}` : s.consent;
}
