import { useInfiniteQuery } from "@tanstack/react-query";

type Page<T> = { items: T[]; next?: string };

/** A list that pages, with the rows of the pages that were read. */
export function usePages<T>(
	queryKey: unknown[],
	read: (cursor: string | undefined, signal: AbortSignal) => Promise<Page<T>>,
) {
	const list = useInfiniteQuery({
		queryKey,
		queryFn: ({ pageParam, signal }) => read(pageParam, signal),
		placeholderData: (old) => old,
		initialPageParam: undefined as string | undefined,
		getNextPageParam: (page) => page.next,
	});
	return { ...list, rows: list.data?.pages.flatMap((p) => p.items) ?? [] };
}
