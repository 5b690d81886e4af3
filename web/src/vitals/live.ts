import { useEffect, useState } from "react";
import type { Schemas } from "../api/client";
import { listen } from "../api/stream";

type Vitals = Schemas["Vitals"];

const kept = 450; // readings: a quarter of an hour at one every 2 s

/** What a device reads now, for as long as this is shown. */
export function useLiveVitals(id: string, wanted: boolean) {
	const [readings, setReadings] = useState<Vitals[]>([]);
	useEffect(() => {
		setReadings([]);
		if (!wanted) return;
		const vitals = (data: string) => {
			const v: Vitals = JSON.parse(data);
			setReadings((old) => [...old.slice(-kept), v]);
		};
		return listen(`/api/v1/devices/${id}/vitals/live`, { vitals });
	}, [id, wanted]);
	return readings;
}
