import { queryOptions, useQuery } from "@tanstack/react-query";
import { createContext, useContext } from "react";
import { answer, api, ProblemError, rememberCsrf, type Schemas } from "./client";

export type Me = Schemas["Me"];

/** Who is signed in; null for nobody. */
export const meQuery = queryOptions({
	queryKey: ["me"],
	queryFn: async () => {
		try {
			const me = await answer(api.GET("/me"));
			rememberCsrf(me.csrf);
			return me;
		} catch (error) {
			if (error instanceof ProblemError && error.problem.status === 401) return null;
			throw error;
		}
	},
	staleTime: 5 * 60_000,
});

/** What may be done at the device that a page is about; undefined on a page that is about none. */
export const Permitted = createContext<string[] | undefined>(undefined);

/** Whether the signed-in person has a permission: at the device of the page, or else anywhere. */
export function useMay(permission: string) {
	const here = useContext(Permitted);
	const me = useQuery(meQuery).data;
	return (here ?? me?.permissions ?? []).includes(permission);
}

/** Whether they have it everywhere, as what belongs to the whole service asks. */
export function useMayEverywhere(permission: string) {
	return useQuery(meQuery).data?.everywhere.includes(permission) ?? false;
}
