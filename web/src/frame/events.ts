import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { meQuery } from "../api/me";
import { type Old, readAnew } from "../api/queries";
import { listen } from "../api/stream";
import { devicesQuery, takeIn } from "../fleet/devices";
import { alertPaths } from "../health/alerts";
import { keepInvitation } from "./Invitations";

/** What each event of the service changes in the console; data is its JSON. */
export const events: Record<string, (queries: QueryClient, data: string) => void> = {
	devices: (queries, data) => takeIn(queries, JSON.parse(data)),
	alerts: (queries) => readAnew(queries, alertPaths),
	responses: (queries) => readAnew(queries, ["/responses", "/alerts/{id}/*", "/policies"]),
	jobs: (queries, data) => {
		readAnew(queries, ["/jobs", "/devices/{id}/runs"]);
		for (const id of JSON.parse(data).ids) readAnew(queries, "/jobs/{id}/*", { id });
	},
	rollouts: (queries, data) => {
		readAnew(queries, "/rollouts");
		for (const id of JSON.parse(data).ids) readAnew(queries, "/rollouts/{id}/*", { id });
	},
	invited: keepInvitation,
	resync: afterGap,
};

/** Where all that events keep up to date is read, but for devices. */
const kept: Old[] = [...alertPaths, "/responses", "/policies", "/jobs/*", "/devices/{id}/runs", "/rollouts/*"];

/** Reads anew what events keep up to date, as some were missed. */
export function afterGap(queries: QueryClient) {
	queries.invalidateQueries({ queryKey: devicesQuery.queryKey });
	readAnew(queries, kept);
}

/** Keeps the console up to date while it is looked at. Returns whether the events come. */
export function useEvents() {
	const queries = useQueryClient();
	const [live, setLive] = useState(true);
	useEffect(() => {
		let opened = false;
		const handlers = Object.fromEntries(
			Object.entries(events).map(([name, handle]) => [name, (data: string) => handle(queries, data)]),
		);
		return listen("/api/v1/events", handlers, (now) => {
			setLive(now);
			if (!now) {
				// Perhaps the session ended: then the sign-in page is shown.
				queries.invalidateQueries({ queryKey: meQuery.queryKey });
				return;
			}
			if (opened) afterGap(queries);
			opened = true;
		});
	}, [queries]);
	return live;
}
