import { useSyncExternalStore } from "react";

let now = Date.now();
const readers = new Set<() => void>();
setInterval(() => {
	now = Date.now();
	for (const tell of readers) tell();
}, 5000);

/** The time, drawn anew every few seconds. */
export function useNow() {
	return useSyncExternalStore(
		(tell) => {
			readers.add(tell);
			return () => readers.delete(tell);
		},
		() => now,
	);
}

const exact = new Intl.DateTimeFormat(undefined, { dateStyle: "full", timeStyle: "medium" });

/** How long a span of seconds is, in its largest whole unit. */
export function span(seconds: number) {
	const s = Math.max(0, Math.round(seconds));
	if (s < 60) return `${s} s`;
	if (s < 3600) return `${Math.floor(s / 60)} min`;
	if (s < 48 * 3600) return `${Math.floor(s / 3600)} h`;
	return `${Math.floor(s / 86400)} days`;
}

const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" });
const month = 30 * 86400; // s

/** How long ago a time was, or its date after a month; the exact time on hover. */
export function Ago({ at, suffix = " ago" }: { at: string; suffix?: string }) {
	const seconds = (useNow() - Date.parse(at)) / 1000;
	return (
		<time dateTime={at} title={exact.format(new Date(at))} className="tabular-nums whitespace-nowrap">
			{seconds > month && suffix
				? day.format(new Date(at))
				: seconds < -5
					? `in ${span(-seconds)}`
					: seconds < 5 && suffix
						? "just now"
						: span(seconds) + suffix}
		</time>
	);
}

/** A time in seconds since 1970, written out. */
export function exactly(seconds: number) {
	return exact.format(new Date(seconds * 1000));
}
