import { queryOptions, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { answer, api, type Device } from "../api/client";

/** Every device, by id, read page after page. Events keep it up to date. */
export const devicesQuery = queryOptions({
	queryKey: ["devices"],
	queryFn: async ({ signal }) => {
		const all = new Map<string, Device>();
		let cursor: string | undefined;
		do {
			const page = await answer(api.GET("/devices", { params: { query: { limit: 2000, cursor } }, signal }));
			for (const d of page.items) all.set(d.id, d);
			cursor = page.next;
		} while (cursor);
		return all;
	},
	staleTime: Number.POSITIVE_INFINITY,
});

export function useDevices() {
	return useQuery(devicesQuery);
}

/**
 * Keeps the devices up to date while the console is open. Returns whether the events come; while
 * they do not, the browser tries again by itself, and then everything is read anew.
 */
export function useDeviceEvents() {
	const queries = useQueryClient();
	const [live, setLive] = useState(true);
	useEffect(() => {
		const events = new EventSource("/api/v1/events");
		let lost = false;
		const readAnew = () => {
			queries.invalidateQueries({ queryKey: devicesQuery.queryKey });
			queries.invalidateQueries({ queryKey: ["attention"] });
		};
		events.onopen = () => {
			setLive(true);
			if (lost) readAnew();
			lost = false;
		};
		events.onerror = () => {
			lost = true;
			setLive(false);
			// The browser gives up by itself when the answer was an error, as behind a proxy.
			if (events.readyState === EventSource.CLOSED) queries.invalidateQueries({ queryKey: ["me"] });
		};
		events.addEventListener("resync", readAnew);
		events.addEventListener("devices", (e) => {
			const changed: Device[] = JSON.parse(e.data);
			queries.setQueryData(devicesQuery.queryKey, (old) => {
				if (!old) return old;
				const all = new Map(old);
				for (const d of changed) all.set(d.id, d);
				return all;
			});
			for (const d of changed) queries.invalidateQueries({ queryKey: ["device", d.id] });
			queries.invalidateQueries({ queryKey: ["attention"] });
		});
		return () => events.close();
	}, [queries]);
	return live;
}
