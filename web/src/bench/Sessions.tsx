import { useMutation, useQuery } from "@tanstack/react-query";
import { answer, api, type Schemas } from "../api/client";
import { meQuery, useMayEverywhere } from "../api/me";
import { usePages, useReadAnew } from "../api/queries";
import { AskLine, Confirm } from "../parts/Confirm";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago, span } from "../parts/time";
import { bytes } from "../parts/units";

/** The sessions with a device, the latest first. */
export function Sessions({ device }: { device: string }) {
	const readAnew = useReadAnew("/devices/{id}/sessions", { id: device });
	const list = usePages(
		"/devices/{id}/sessions",
		{ path: { id: device }, query: { limit: 50 } },
		{ refetchInterval: 10_000 },
	);
	const note = useMutation({
		mutationFn: ({ id, text }: { id: string; text: string }) =>
			answer(api.PUT("/sessions/{id}/note", { params: { path: { id } }, body: { note: text } })),
		onSettled: readAnew,
	});
	const end = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/sessions/{id}", { params: { path: { id } } })),
		onSettled: readAnew,
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
			<Table
				rows={all}
				list={list}
				id={(s) => s.id}
				columns={[
					{ head: "Tool", className: "font-medium", value: (s) => s.tool },
					{ head: "Who", title: (s) => `from ${s.address}, by ${s.via}`, value: (s) => s.actor },
					{ head: "Began", value: (s) => s.began_at, show: (s) => <Ago at={s.began_at} /> },
					{
						head: "Lasted",
						title: (s) => s.end,
						className: "tabular-nums",
						show: (s) => (
							<>
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
							</>
						),
					},
					{ head: "Consent", show: (s) => consent(s) },
					{ head: "Done", right: true, show: (s) => s.actions || "" },
					{ head: "Moved", right: true, show: (s) => bytes(s.received_bytes + s.sent_bytes) },
					{
						head: "Note",
						value: (s) => s.note,
						show: (s) => (
							<>
								{s.note}{" "}
								<AskLine
									label={s.note ? "Change" : "Add"}
									title="Note at this session"
									verb="Keep it"
									field="Note"
									usual={s.note}
									onDo={(text) => note.mutate({ id: s.id, text })}
								/>
							</>
						),
					},
				]}
			/>
		</>
	);
}

function consent(s: Schemas["ToolSession"]) {
	return s.interrupted_seconds >= 1 ? `${s.consent}; interrupted them for ${span(s.interrupted_seconds)}` : s.consent;
}
