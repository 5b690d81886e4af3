import { queryOptions, useMutation, useQuery } from "@tanstack/react-query";
import { answer, api, type Schemas } from "../api/client";
import { type Old, read, useReadAnew } from "../api/queries";

/** Where alerts are read, as a change of one makes them old. */
export const alertPaths: Old[] = ["/attention", "/alerts/*"];

export type Alert = Schemas["Alert"];

/** The kinds of check, which change with the service's version alone. */
export const checksQuery = queryOptions({ ...read("/checks"), staleTime: Number.POSITIVE_INFINITY });

/** How a person reads the name of a check. */
export function useCheckTitle() {
	const kinds = useQuery(checksQuery).data?.items;
	return (check: string) => kinds?.find((k) => k.name === check)?.title ?? check;
}

/** Does something to an alert, and has what shows it read anew. */
export function useHandle(id: string) {
	const readAnew = useReadAnew(alertPaths);
	return useMutation({
		mutationFn: (body: Schemas["AlertAction"]) =>
			answer(api.POST("/alerts/{id}/events", { params: { path: { id } }, body })),
		onSettled: () => readAnew(),
	});
}

/** How many times higher the odds are, without more digits than the data hold. */
export function odds(n: number) {
	if (n >= 1000) return "over 1000×";
	return `${n >= 10 ? n.toFixed(0) : n.toFixed(1)}×`;
}
