import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { answer, api } from "../api/client";
import { meQuery } from "../api/me";

const key = "moorwatch-last-input";

/** Signs out when nobody has touched a key or the pointer for so many minutes, in any window of the console. */
export function useIdle(minutes: number) {
	const queries = useQueryClient();
	useEffect(() => {
		if (minutes <= 0) return;
		let noted = 0;
		const note = () => {
			if (Date.now() - noted < 5_000) return;
			noted = Date.now();
			localStorage.setItem(key, String(noted));
		};
		note();
		const events = ["pointerdown", "pointermove", "keydown", "wheel", "touchstart"];
		for (const e of events) window.addEventListener(e, note, { passive: true, capture: true });
		const look = setInterval(() => {
			if (Date.now() - Number(localStorage.getItem(key) ?? 0) < minutes * 60_000) return;
			sessionStorage.setItem("moorwatch-idle", String(minutes));
			answer(api.DELETE("/session")).finally(() => queries.setQueryData(meQuery.queryKey, null));
		}, 5_000);
		return () => {
			clearInterval(look);
			for (const e of events) window.removeEventListener(e, note, { capture: true });
		};
	}, [minutes, queries]);
}

/** After how many minutes without input this window signed out, said once; undefined where it did not. */
export function takeIdle(): string | undefined {
	return sessionStorage.getItem("moorwatch-idle") ?? undefined;
}

/** Forgets that it did. */
export function forgetIdle() {
	sessionStorage.removeItem("moorwatch-idle");
}
