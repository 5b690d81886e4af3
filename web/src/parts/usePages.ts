import { useInfiniteQuery } from "@tanstack/react-query";

type Page = { items: unknown[]; next?: string };

/** A list that pages, with the rows of the pages that were read. */
export function usePages<P extends Page>(
	queryKey: unknown[],
	read: (cursor: string | undefined, signal: AbortSignal) => Promise<P>,
	refetchInterval?: number, // ms
) {
	const list = useInfiniteQuery({
		queryKey,
		queryFn: ({ pageParam, signal }) => read(pageParam, signal),
		placeholderData: (old) => old,
		initialPageParam: undefined as string | undefined,
		getNextPageParam: (page) => page.next,
		refetchInterval,
	});
	return { ...list, rows: (list.data?.pages.flatMap((p) => p.items) ?? []) as P["items"] };
}
