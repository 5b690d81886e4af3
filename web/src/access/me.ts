import { queryOptions, useQuery } from "@tanstack/react-query";
import { answer, api, ProblemError, rememberCsrf } from "../api/client";

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

/** Whether the signed-in person has a permission. */
export function useMay(permission: string) {
	return useQuery(meQuery).data?.permissions.includes(permission) ?? false;
}
