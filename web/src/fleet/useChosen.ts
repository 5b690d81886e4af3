import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useMemo } from "react";
import type { Device } from "../api/client";
import { readAll } from "../api/queries";
import { type Choice, expressionOf, matches, needsService } from "./choice";
import { useDevices } from "./devices";

/** The devices for which a choice holds, as they are now. */
export type Chosen = { devices: Device[]; total: number; pending: boolean; error: unknown; refetch: () => unknown };

const idsOf = (of: Device[]) => new Set(of.map((d) => d.id));

/** Finds the devices of a choice among those that the console holds; what their rows do not tell is asked of the service. */
export function useChosen(choice: Choice): Chosen {
	const all = useDevices();
	const late = useDeferredValue(choice);
	const expression = needsService(late) ? expressionOf(late) : "";
	const asked = useQuery({
		...readAll("/devices", { query: { where: expression, limit: 2000 } }),
		select: idsOf,
		enabled: expression !== "",
		placeholderData: (old) => old,
		refetchInterval: 60_000, // devices come and go
		retry: false,
	});
	const devices = useMemo(() => {
		const found: Device[] = [];
		if (expression && !asked.data) return found;
		for (const d of all.data?.values() ?? []) if (expression ? asked.data?.has(d.id) : matches(late, d)) found.push(d);
		return found;
	}, [all.data, late, expression, asked.data]);
	return {
		devices,
		total: all.data?.size ?? 0,
		pending: all.isPending || (expression !== "" && asked.isPending),
		error: all.error ?? (expression ? asked.error : null),
		refetch: () => (all.error ? all.refetch() : asked.refetch()),
	};
}
