import { useSyncExternalStore } from "react";

const root = document.documentElement;
const readers = new Set<() => void>();

/** Turns to the other theme, and keeps the choice on this computer. */
export function turnTheme() {
	const dark = root.classList.toggle("dark");
	localStorage.setItem("moorwatch theme", dark ? "dark" : "light");
	for (const tell of readers) tell();
}

/** Whether the dark theme is shown; what reads it is drawn again when that changes. */
export function useDark() {
	return useSyncExternalStore(
		(tell) => {
			readers.add(tell);
			return () => readers.delete(tell);
		},
		() => root.classList.contains("dark"),
	);
}

/** The value of a colour of theme.css, for what is drawn without CSS. */
export function colour(name: string) {
	return getComputedStyle(root).getPropertyValue(`--${name}`).trim();
}
