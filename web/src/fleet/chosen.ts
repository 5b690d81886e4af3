import { useLocation, useSearchParams } from "react-router";
import { type Choice, fromParams, toParams } from "./choice";

// How a page is told of which devices another page speaks.

const longest = 1500; // characters of an address; longer ones are handed over without it

/** The way to a page with the devices that it is to begin with. */
export function wayTo(path: string, choice: Choice): { to: string; state?: { choice: Choice } } {
	const params = toParams(choice).toString();
	if (params.length > longest) return { to: path, state: { choice } };
	return { to: params ? `${path}${path.includes("?") ? "&" : "?"}${params}` : path };
}

/** The devices that a page was opened with. */
export function useBrought(): Choice {
	const [params] = useSearchParams();
	const state = useLocation().state as { choice?: Choice } | null;
	return state?.choice ?? fromParams(params);
}

/** Single devices as a choice. */
export function these(ids: Iterable<string>): Choice {
	return { terms: [...ids].map((value) => ({ facet: "device" as const, value })) };
}
