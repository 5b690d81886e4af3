import { useEffect, useState } from "react";
import type { Schemas } from "../api/client";

type Vitals = Schemas["Vitals"];

const kept = 450; // readings: a quarter of an hour at one every 2 s

/** What a device reads now, for as long as this is shown. */
export function useLiveVitals(id: string, wanted: boolean) {
	const [readings, setReadings] = useState<Vitals[]>([]);
	useEffect(() => {
		setReadings([]);
		if (!wanted) return;
		const events = new EventSource(`/api/v1/devices/${id}/vitals/live`);
		events.addEventListener("vitals", (e) => {
			const v: Vitals = JSON.parse(e.data);
			setReadings((old) => [...old.slice(-kept), v]);
		});
		return () => events.close();
	}, [id, wanted]);
	return readings;
}
