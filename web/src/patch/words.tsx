import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { Counts, colourOf, type State, wordOf } from "../parts/Counts";
import { Ago, span } from "../parts/time";

/** What rules say of updates. */
const decisions: readonly State[] = [
	["undecided", "undecided", "bg-gorse-fill", "text-gorse"],
	["held", "held", "bg-gorse-fill", "text-gorse"],
	["excluded", "excluded", "bg-mist", "text-mist"],
	["deferred", "not yet", "bg-edge", "text-mist"],
	["approved", "approved", "bg-moss", "text-moss"],
];

export function Decisions({ counts }: { counts: Record<string, number> }) {
	return <Counts of={decisions} counts={counts} none="" />;
}

/** States of devices in a rollout, and of updates at a device. */
const states: readonly State[] = [
	["failed", "failed", "bg-rowan", "text-rowan"],
	["running", "being patched", "bg-heather", "text-heather"],
	["reverting", "going back", "bg-heather", "text-heather"],
	["planned", "to come", "bg-edge", "text-mist"],
	["missed", "missed", "bg-mist", "text-mist"],
	["patched", "patched", "bg-moss", "text-moss"],
	["installed", "installed", "bg-moss", "text-moss"],
	["reverted", "taken back", "bg-gorse-fill", "text-gorse"],
	["current", "nothing to do", "bg-line", "text-faint"],
];

/** What became of those that were still to come when a rollout was over. */
const ended = states.map((s): State => (s[0] === "planned" ? ["planned", "not reached", "bg-mist", "text-mist"] : s));

/** How many devices of a rollout are in which state. */
export function States({ counts, phase }: { counts: Record<string, number>; phase: string /* of the rollout */ }) {
	return <Counts of={phase === "done" || phase === "cancelled" ? ended : states} counts={counts} none="no devices" />;
}

export const stateWord = wordOf(states);
export const stateColour = colourOf(states);

const marks = { critical: "text-rowan", high: "text-rowan", medium: "text-gorse", low: "text-mist", "": "text-faint" };

/** A mark of as many strokes as something is bad, before its word. */
export function Badness({ severity, children }: { severity: Schemas["PatchSeverity"]; children: ReactNode }) {
	const strokes = { critical: 4, high: 3, medium: 2, low: 1, "": 0 }[severity];
	return (
		<span className={`inline-flex items-center gap-2 whitespace-nowrap ${marks[severity]}`}>
			<span aria-hidden="true" className="flex items-end gap-px">
				{[1, 2, 3, 4].map((n) => (
					<span
						key={n}
						className={`w-1 rounded-sm ${n <= strokes ? "bg-current" : "bg-line"}`}
						style={{ height: `${3 + 2 * n}px` }}
					/>
				))}
			</span>
			{children}
		</span>
	);
}

/** How bad what an update mends is. */
export function Severity({ of: u }: { of: Schemas["Update"] }) {
	const severity = u.severity ?? "";
	return (
		<Badness severity={severity}>
			{u.class === "security" || u.class === "critical" ? `${u.class}${severity ? `, ${severity}` : ""}` : u.class}
			{u.exploited && <Attacked />}
		</Badness>
	);
}

/** That a weakness is used in attacks. */
export function Attacked() {
	return <strong className="rounded-sm bg-rowan px-1 font-medium text-page text-xs">exploited</strong>;
}

/** An advisory by its id, with the way to it. */
export function AdvisoryLink({ id }: { id: string }) {
	return (
		<Link className="link underline" to={`/advisories/${encodeURIComponent(id)}`}>
			{id}
		</Link>
	);
}

/** When an update came out; when it was first seen, where that is not known. */
export function Released({ of: u, seen }: { of: Schemas["Update"]; seen: string }) {
	return u.released ? <Ago at={u.released} /> : <span className="text-faint">seen {<Ago at={seen} />}</span>;
}

const phases: Record<string, string> = {
	asking: "waits for a second person",
	patching: "patching",
	soaking: "watching",
	held: "held",
	reverting: "taking back",
	paused: "paused",
	done: "done",
	cancelled: "cancelled",
};

export const phaseWord = (phase: string) => phases[phase] ?? phase;
export const phaseColour = (phase: string) =>
	phase === "held"
		? "text-rowan"
		: phase === "done"
			? "text-moss"
			: phase === "cancelled"
				? "text-faint"
				: "text-heather";

/** For how long a ring is watched. */
export const soakText = (ring?: Schemas["Ring"]) =>
	ring?.soak_minutes ? `watched for ${span(ring.soak_minutes * 60)}` : "not watched";

/** A number that matters, with what it is, in a list of such. */
export const figure = (n: string | number, what: string, colour = "") => (
	<li className="flex items-baseline gap-2">
		<span className={`font-semibold text-2xl tabular-nums ${colour}`}>{n}</span>
		<span className="text-faint">{what}</span>
	</li>
);
