import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { useMayEverywhere } from "../access/me";
import { answer, api, type Schemas } from "../api/client";
import { ProblemAlert } from "../parts/ProblemAlert";
import { Ago } from "../parts/time";

type Question = Schemas["IdentityQuestion"];

/** New devices that wait until somebody lets them in; nothing where none does. */
export function LetIn() {
	const queries = useQueryClient();
	const manage = useMayEverywhere("fleet.manage");
	const waiting = useInfiniteQuery({
		queryKey: ["identity-questions", "enrolled"],
		queryFn: ({ pageParam, signal }) =>
			answer(
				api.GET("/identity-questions", {
					params: { query: { kind: "enrolled", cursor: pageParam, limit: 100 } },
					signal,
				}),
			),
		initialPageParam: undefined as string | undefined,
		getNextPageParam: (page) => page.next,
		refetchInterval: 15_000,
	});
	const rows = waiting.data?.pages.flatMap((p) => p.items) ?? [];
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
			<table className="w-full border-collapse">
				<thead>
					<tr className="border-line border-b">
						<th scope="col" className="head py-1.5">
							Device
						</th>
						<th scope="col" className="head">
							Site
						</th>
						<th scope="col" className="head">
							Came from
						</th>
						<th scope="col" className="head">
							Asked
						</th>
						<th scope="col" className="head">
							<span className="sr-only">Answer</span>
						</th>
					</tr>
				</thead>
				<tbody>
					{rows.map((q) => (
						<tr key={q.id} className="border-line border-b">
							<td className="py-1.5">
								<Link to={`/devices/${q.device}`}>{q.name}</Link>
								<span className="block wrap-anywhere text-faint text-sm">
									{q.hardware.length > 0 ? q.hardware.join(", ").replaceAll(":", " ") : "says nothing of its hardware"}
								</span>
							</td>
							<td>
								{q.site} <span className="text-faint text-sm">{q.organisation}</span>
							</td>
							<td>{q.address}</td>
							<td>
								<Ago at={q.asked_at} />
							</td>
							<td className="whitespace-nowrap text-right">
								{manage && (
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
								)}
							</td>
						</tr>
					))}
				</tbody>
			</table>
			{waiting.hasNextPage && (
				<button type="button" className="button-quiet mt-3" onClick={() => waiting.fetchNextPage()}>
					Show more
				</button>
			)}
		</section>
	);
}
