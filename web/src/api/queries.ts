import { type QueryClient, queryOptions, useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { answer, api } from "./client";
import type { paths } from "./schema";

// What is read with GET is kept under the path that the contract gives it and its parameters:
// two places that read the same share it, and what a change makes old is named by its path.

/** The paths that can be read. */
export type ReadPath = {
	[P in keyof paths]: paths[P] extends { get: { responses: unknown } } ? P : never;
}[keyof paths];

type Operation<P extends ReadPath> = paths[P] extends { get: infer O } ? O : never;
type Parameters<P extends ReadPath> = Operation<P> extends { parameters: infer Q } ? Q : never;
type Given<P extends ReadPath> =
	Record<never, never> extends Parameters<P> ? [params?: Parameters<P>] : [params: Parameters<P>];

/** What reading a path gives, as JSON. */
export type Answer<P extends ReadPath> =
	Operation<P> extends { responses: { 200: { content: { "application/json": infer A } } } } ? A : never;

/** The paths whose answer is one page of a list. */
type PagedPath = { [P in ReadPath]: Answer<P> extends { items: unknown[]; next?: string } ? P : never }[ReadPath];

type Page<I> = { items: I[]; next?: string };
type Item<P extends PagedPath> = Answer<P> extends { items: (infer I)[] } ? I : never;

function get<P extends ReadPath>(path: P, params: unknown, signal: AbortSignal) {
	// The types of the client follow from a path that is known; read and usePages have checked theirs.
	return answer((api.GET as (p: P, init: object) => never)(path, { params, signal })) as Promise<Answer<P>>;
}

/** How to read a path of the contract, for useQuery. */
export function read<P extends ReadPath>(path: P, ...[params]: Given<P>) {
	return queryOptions({
		queryKey: [path, params ?? {}] as const,
		queryFn: ({ signal }) => get(path, params, signal),
	});
}

/** One page of a list, from a cursor on. */
function getPage<P extends PagedPath>(path: P, params: Parameters<P>, cursor: string | undefined, signal: AbortSignal) {
	const { query, ...rest } = params as { query?: object };
	return get(path, { ...rest, query: { ...query, cursor } }, signal) as Promise<Answer<P> & Page<Item<P>>>;
}

/** Every item of a list, read page after page. */
export async function everyItem<P extends PagedPath>(path: P, params: Parameters<P>, signal: AbortSignal) {
	const all: Item<P>[] = [];
	let cursor: string | undefined;
	do {
		const page = await getPage(path, params, cursor, signal);
		all.push(...page.items);
		cursor = page.next;
	} while (cursor);
	return all;
}

/** How to read every item of a list, for useQuery; for lists that stay short. */
export function readAll<P extends PagedPath>(path: P, params: Parameters<P>) {
	return queryOptions({
		queryKey: [path, params, "all"] as const,
		queryFn: ({ signal }) => everyItem(path, params, signal),
	});
}

type PageOptions = { enabled?: boolean; refetchInterval?: number /* ms */ };

/** A list that pages, with the rows of the pages that were read. */
export function usePages<P extends PagedPath>(path: P, params: Parameters<P>, options: PageOptions = {}) {
	const list = useInfiniteQuery({
		queryKey: [path, params, "pages"],
		queryFn: ({ pageParam, signal }) => getPage(path, params, pageParam, signal),
		placeholderData: (old) => old,
		initialPageParam: undefined as string | undefined,
		getNextPageParam: (page) => page.next,
		...options,
	});
	return { ...list, rows: (list.data?.pages ?? []).flatMap((p) => p.items) };
}

/** A path whose answers are old, or with /* that path and all below it. */
export type Old = ReadPath | `${ReadPath}/*`;

/** Has what was read from paths read anew; of keeps it to those with these parameters in their path. */
export function readAnew(queries: QueryClient, old: Old | Old[], of: Record<string, string> = {}) {
	const all = [old].flat();
	return queries.invalidateQueries({
		predicate: ({ queryKey: [path, params] }) =>
			typeof path === "string" &&
			all.some((o) => (o.endsWith("/*") ? `${path}/`.startsWith(o.slice(0, -1)) : path === o)) &&
			Object.entries(of).every(([k, v]) => (params as { path?: Record<string, string> })?.path?.[k] === v),
	});
}

/** The same for a component: calling what it returns has them read anew. */
export function useReadAnew(old: Old | Old[], of?: Record<string, string>) {
	const queries = useQueryClient();
	return () => readAnew(queries, old, of);
}
