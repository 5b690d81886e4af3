import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { Level } from "../parts/Condition";
import { Empty, Trouble, Waiting } from "../parts/Trouble";
import { Ago } from "../parts/time";

/** The first page: what needs a person now, in order of harm. */
export function Now() {
	const list = useInfiniteQuery({
		queryKey: ["attention"],
		queryFn: ({ pageParam, signal }) =>
			answer(api.GET("/attention", { params: { query: { cursor: pageParam, limit: 100 } }, signal })),
		initialPageParam: undefined as string | undefined,
		getNextPageParam: (page) => page.next,
	});
	if (list.isPending) return <Waiting what="what needs a person" />;
	if (list.isError)
		return (
			<div className="p-6">
				<Trouble error={list.error} retry={() => list.refetch()} />
			</div>
		);
	const rows = list.data.pages.flatMap((p) => p.items);
	const first = list.data.pages[0];
	const all = Object.values(first?.devices ?? {}).reduce((a, b) => a + b, 0);
	const touched = new Set(rows.map((r) => r.device.id)).size;
	return (
		<div className="mx-auto max-w-6xl px-5 py-5">
			<h1 className="text-xl font-semibold">What needs a person now</h1>
			{rows.length === 0 ? (
				all === 0 ? (
					<Empty title="There is no device yet.">
						<Link to="/enrol" className="link">
							Enrol the first
						</Link>{" "}
						with a token and one command.
					</Empty>
				) : (
					<Empty title="Nothing needs a person now.">
						All {all} devices are connected, with room on their disks and in memory.
					</Empty>
				)
			) : (
				<>
					<p className="mb-4 text-faint">
						{first?.total} {first?.total === 1 ? "finding" : "findings"} on {list.hasNextPage ? "more than " : ""}
						{touched} of {all} devices, worst first.
					</p>
					<table className="w-full border-collapse">
						<thead>
							<tr className="border-line border-b">
								<th scope="col" className="head w-8 py-1.5">
									<span className="sr-only">Level</span>
								</th>
								<th scope="col" className="head">
									Device
								</th>
								<th scope="col" className="head">
									What is wrong
								</th>
								<th scope="col" className="head">
									Who is there
								</th>
								<th scope="col" className="head w-24 text-right">
									Since
								</th>
								<th scope="col" className="head pl-6">
									Next step
								</th>
							</tr>
						</thead>
						<tbody>
							{rows.map((r) => (
								<Row key={`${r.device.id} ${r.finding.check} ${r.finding.subject}`} row={r} />
							))}
						</tbody>
					</table>
					{list.hasNextPage && (
						<button
							type="button"
							className="button-quiet mt-3"
							onClick={() => list.fetchNextPage()}
							disabled={list.isFetchingNextPage}
						>
							{list.isFetchingNextPage ? "Reading more…" : "Show more"}
						</button>
					)}
				</>
			)}
		</div>
	);
}

function Row({ row: { device: d, finding: f, next_step } }: { row: Schemas["Attention"] }) {
	const bench = `/devices/${d.id}`;
	// A shell at a device that is connected; the device itself when it is not.
	const step =
		d.online && d.capabilities.includes("shell") && (f.check === "disk" || f.check === "memory" || f.check === "clock")
			? `${bench}?pane=shell`
			: bench;
	return (
		<tr className="border-line border-b align-top hover:bg-panel">
			<td className="py-2 pl-1">
				<Level level={f.level} check={f.check} />
			</td>
			<td className="py-2 pr-4 whitespace-nowrap">
				<Link to={bench} className="font-medium hover:text-heather">
					{d.name}
				</Link>
				<div className="text-faint text-sm">{d.site}</div>
			</td>
			<td className="py-2 pr-4">{f.message}</td>
			<td className="py-2 pr-4 text-faint">{d.online ? d.people.join(", ") || "nobody" : ""}</td>
			<td className="py-2 text-right">
				<Ago at={f.since} suffix="" />
			</td>
			<td className="py-2 pl-6">
				<Link to={step} className="link">
					{next_step}
				</Link>
			</td>
		</tr>
	);
}
