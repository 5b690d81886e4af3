import type { Schemas } from "../api/client";
import { Counts, colourOf, wordOf } from "../parts/Counts";

/** The states of runs, those that matter first, with their words and colours. */
export const states = [
	["failed", "failed", "bg-rowan", "text-rowan"],
	["timed-out", "ended at the time limit", "bg-rowan", "text-rowan"],
	["interrupted", "interrupted", "bg-gorse-fill", "text-gorse"],
	["sent", "running", "bg-heather", "text-heather"],
	["waiting", "waiting", "bg-edge", "text-mist"],
	["succeeded", "succeeded", "bg-moss", "text-moss"],
	["missed", "missed", "bg-mist", "text-mist"],
	["cancelled", "cancelled", "bg-line", "text-faint"],
	["unfit", "not for them", "bg-line", "text-faint"],
] as const;

export const stateWord = wordOf(states);
export const stateColour = colourOf(states);

/** What a job does, in words. */
export function workText(w: Schemas["JobWork"]) {
	if (w.action === "install") return `Install ${w.name} ${w.version ?? ""}`.trim();
	return w.action === "remove" ? `Remove ${w.name}` : w.name;
}

/** How far a job has come, in words. */
export function stateText(j: Schemas["Job"]) {
	if (j.ended_at) return j.state;
	if (j.state !== "running") return `${j.state}, not over yet`;
	const open = (j.counts.waiting ?? 0) + (j.counts.sent ?? 0);
	if (open > 0 && !j.counts.sent) return "waiting";
	return open === 0 && (j.when.rule || j.when.event || j.when.follow) ? "standing" : "running";
}

/** How many runs are in which state, as a bar and in words. */
export function Progress({ counts, words = true }: { counts: Record<string, number>; words?: boolean }) {
	return <Counts of={states} counts={counts} none="no runs yet" words={words} />;
}
