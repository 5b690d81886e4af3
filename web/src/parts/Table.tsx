import type { ReactNode } from "react";

/** A table with a line of heads. */
export function Table({ heads, children }: { heads: string[]; children: ReactNode }) {
	return (
		<table className="w-full border-collapse">
			<thead>
				<tr className="border-line border-b">
					{heads.map((h, i) => (
						<th key={i} scope="col" className="head py-1.5 pr-4">
							{h || <span className="sr-only">Sign or action</span>}
						</th>
					))}
				</tr>
			</thead>
			<tbody>{children}</tbody>
		</table>
	);
}

type Pages = { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };

/** The button for the next page of a list; nothing after the last. */
export function More({ list }: { list: Pages }) {
	if (!list.hasNextPage) return null;
	return (
		<button
			type="button"
			className="button-quiet mt-3"
			onClick={() => list.fetchNextPage()}
			disabled={list.isFetchingNextPage}
		>
			{list.isFetchingNextPage ? "Reading more…" : "Show more"}
		</button>
	);
}
