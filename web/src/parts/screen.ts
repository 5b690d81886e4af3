import { useSyncExternalStore } from "react";

/** Whether the window is narrower than so many pixels. */
export function useNarrow(pixels: number) {
	const query = `(width < ${pixels}px)`;
	return useSyncExternalStore(
		(tell) => {
			const list = matchMedia(query);
			list.addEventListener("change", tell);
			return () => list.removeEventListener("change", tell);
		},
		() => matchMedia(query).matches,
	);
}
