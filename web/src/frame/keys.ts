import { useCallback, useEffect } from "react";
import { useNavigate } from "react-router";
import type { Group } from "./pages";

/** Whether keys are text where the focus is, so that they are no commands. */
export function typing(target: EventTarget | null) {
	return (
		target instanceof HTMLElement &&
		(target.isContentEditable || /^(INPUT|TEXTAREA|SELECT|CANVAS)$/.test(target.tagName))
	);
}

const within = 1500; // ms between the two keys

/** Goes to the page of the handbook about the page where one is. */
export function useHelp() {
	const go = useNavigate();
	return useCallback(async () => {
		const { handbookFor } = await import("../handbook/pages"); // read when it is asked for
		go(`/handbook/${handbookFor(location.pathname)?.id ?? ""}`);
	}, [go]);
}

/** g and a letter goes to a group of pages, ? to the handbook. */
export function useGroupKeys(groups: Group[]) {
	const go = useNavigate();
	const help = useHelp();
	useEffect(() => {
		let at = 0;
		const onKey = (e: KeyboardEvent) => {
			if (e.ctrlKey || e.metaKey || e.altKey || typing(e.target)) return;
			if (e.key === "?") help();
			if (e.key === "g") {
				at = Date.now();
				return;
			}
			const to = Date.now() - at < within && groups.find((g) => g.key === e.key)?.pages[0]?.to;
			at = 0;
			if (!to) return;
			e.preventDefault();
			go(to);
		};
		window.addEventListener("keydown", onKey);
		return () => window.removeEventListener("keydown", onKey);
	}, [groups, go, help]);
}
