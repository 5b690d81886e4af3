import { useMemo } from "react";
import { useDevices } from "../fleet/devices";

/** How many devices are in each condition, from the devices that the console holds. */
export function useTally() {
	const devices = useDevices().data;
	return useMemo(() => {
		const tally = { healthy: 0, degraded: 0, failing: 0, silent: 0 };
		for (const d of devices?.values() ?? []) tally[d.condition]++;
		return tally;
	}, [devices]);
}
