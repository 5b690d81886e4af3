import { queryOptions, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { answer, api, type Device } from "../api/client";
import { listen } from "../api/stream";
import { keepInvitation } from "../frame/Invitations";

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
 * Keeps the devices up to date while the console is looked at. Returns whether the events come;
 * after a gap everything is read anew.
 */
export function useDeviceEvents() {
	const queries = useQueryClient();
	const [live, setLive] = useState(true);
	useEffect(() => {
		let opened = false;
		const readAnew = () => {
			queries.invalidateQueries({ queryKey: devicesQuery.queryKey });
			for (const key of ["attention", "alerts", "alert"]) queries.invalidateQueries({ queryKey: [key] });
		};
		const devices = (data: string) => {
			const changed: Device[] = JSON.parse(data);
			queries.setQueryData(devicesQuery.queryKey, (old) => {
				if (!old) return old;
				const all = new Map(old);
				// An event is for everybody: it does not tell whose favourite a device is.
				for (const d of changed) all.set(d.id, { ...d, favourite: all.get(d.id)?.favourite });
				return all;
			});
			for (const d of changed) queries.invalidateQueries({ queryKey: ["device", d.id] });
		};
		const alerts = () => {
			for (const key of ["attention", "alerts", "alert"]) queries.invalidateQueries({ queryKey: [key] });
		};
		const responses = () => {
			for (const key of ["responses", "alert", "policies"]) queries.invalidateQueries({ queryKey: [key] });
		};
		const jobs = (data: string) => {
			queries.invalidateQueries({ queryKey: ["jobs"] });
			for (const id of JSON.parse(data).ids) queries.invalidateQueries({ queryKey: ["job", id] });
		};
		const rollouts = (data: string) => {
			queries.invalidateQueries({ queryKey: ["rollouts"] });
			for (const id of JSON.parse(data).ids) queries.invalidateQueries({ queryKey: ["rollout", id] });
		};
		const invited = (data: string) => keepInvitation(queries, data);
		return listen(
			"/api/v1/events",
			{ devices, alerts, resync: readAnew, invited, jobs, responses, rollouts },
			(now) => {
				setLive(now);
				if (!now) {
					// Perhaps the session ended: then the sign-in page is shown.
					queries.invalidateQueries({ queryKey: ["me"] });
					return;
				}
				if (opened) readAnew();
				opened = true;
			},
		);
	}, [queries]);
	return live;
}
