import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { useMayEverywhere } from "../api/me";
import { usePages } from "../api/queries";
import { ProblemAlert } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";

type Question = Schemas["IdentityQuestion"];

/** New devices that wait until somebody lets them in; nothing where none does. */
export function LetIn() {
	const queries = useQueryClient();
	const manage = useMayEverywhere("fleet.manage");
	const waiting = usePages(
		"/identity-questions",
		{ query: { kind: "enrolled", limit: 100 } },
		{ refetchInterval: 15_000 },
	);
	const rows = waiting.rows;
	const say = useMutation({
		mutationFn: async ({ some, same }: { some: Question[]; same: boolean }) => {
			for (const q of some) {
				await answer(
					api.PUT("/devices/{id}/identity", { params: { path: { id: q.device } }, body: { question: q.id, same } }),
				);
			}
		},
		onSettled: () => queries.invalidateQueries(),
	});
	if (waiting.isError) return <ProblemAlert error={waiting.error} retry={() => waiting.refetch()} />;
	if (rows.length === 0) return null;
	return (
		<section aria-labelledby="waiting">
			<div className="mb-1 flex items-center gap-3">
				<h2 id="waiting" className="font-semibold">
					Waiting to be let in
				</h2>
				{manage && rows.length > 1 && (
					<button
						type="button"
						className="button-quiet ml-auto"
						disabled={say.isPending}
						onClick={() => say.mutate({ some: rows, same: true })}
					>
						Let all {rows.length} in
					</button>
				)}
			</div>
			{say.isError && <ProblemAlert error={say.error} />}
			<Table
				rows={rows}
				id={(q) => q.id}
				columns={[
					{
						head: "Device",
						value: (q) => q.name,
						show: (q) => (
							<>
								<Link to={`/devices/${q.device}`}>{q.name}</Link>
								<span className="block wrap-anywhere text-faint text-sm">
									{q.hardware.length > 0 ? q.hardware.join(", ").replaceAll(":", " ") : "says nothing of its hardware"}
								</span>
							</>
						),
					},
					{
						head: "Site",
						value: (q) => q.site,
						show: (q) => (
							<>
								{q.site} <span className="text-faint text-sm">{q.organisation}</span>
							</>
						),
					},
					{ head: "Came from", value: (q) => q.address },
					{ head: "Asked", value: (q) => q.asked_at, show: (q) => <Ago at={q.asked_at} /> },
					{
						head: "",
						actions: true,
						show: (q) =>
							manage && (
								<>
									<button
										type="button"
										className="button"
										aria-label={`Let in ${q.name}`}
										disabled={say.isPending}
										onClick={() => say.mutate({ some: [q], same: true })}
									>
										Let in
									</button>{" "}
									<button
										type="button"
										className="button-quiet"
										aria-label={`Refuse ${q.name}`}
										disabled={say.isPending}
										onClick={() => say.mutate({ some: [q], same: false })}
									>
										Refuse
									</button>
								</>
							),
					},
				]}
			/>
			{waiting.hasNextPage && (
				<button type="button" className="button-quiet mt-3" onClick={() => waiting.fetchNextPage()}>
					Show more
				</button>
			)}
		</section>
	);
}
