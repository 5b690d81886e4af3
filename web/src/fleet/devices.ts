import { type QueryClient, queryOptions, useQuery } from "@tanstack/react-query";
import type { Device } from "../api/client";
import { everyItem, readAnew } from "../api/queries";

/** Every device, by id, read page after page. Events keep it up to date. */
export const devicesQuery = queryOptions({
	queryKey: ["/devices", {}, "by id"],
	queryFn: async ({ signal }) =>
		new Map((await everyItem("/devices", { query: { limit: 2000 } }, signal)).map((d) => [d.id, d])),
	staleTime: Number.POSITIVE_INFINITY,
});

export function useDevices() {
	return useQuery(devicesQuery);
}

/** Takes devices in that an event tells of, instead of reading all of them anew. */
export function takeIn(queries: QueryClient, changed: Device[]) {
	queries.setQueryData(devicesQuery.queryKey, (old) => {
		if (!old) return old;
		const all = new Map(old);
		// An event is for everybody: it does not tell whose favourite a device is.
		for (const d of changed) all.set(d.id, { ...d, favourite: all.get(d.id)?.favourite });
		return all;
	});
	for (const d of changed) readAnew(queries, "/devices/{id}", { id: d.id });
}
