import type { Schemas } from "../api/client";

type Name = Schemas["Condition"];

const words: Record<Name, string> = {
	healthy: "healthy",
	degraded: "degraded",
	failing: "failing",
	silent: "silent",
};

const colours: Record<Name, string> = {
	healthy: "text-moss",
	degraded: "text-gorse-fill",
	failing: "text-rowan",
	silent: "text-mist",
};

// Each condition has a shape of its own: a leaf, a peak, a stone on its corner, an empty ring.
const shapes = {
	healthy: <path d="M8 2.5c3.6 1 5.2 4.6 3.9 8-.7 1.9-2.2 2.9-3.9 3-1.7-.1-3.2-1.1-3.9-3-1.3-3.4.3-7 3.9-8z" />,
	degraded: <path d="M8 2 15 14H1z" />,
	failing: <path d="M8 .8 15.2 8 8 15.2.8 8z" />,
	silent: <circle cx="8" cy="8" r="5.2" fill="none" stroke="currentColor" strokeWidth="2" strokeDasharray="4.1 2.4" />,
};

/** The sign of a condition, with its word beside it or for screen readers alone. */
export function Condition({ name, word = false }: { name: Name; word?: boolean }) {
	return (
		<span className="inline-flex items-center gap-1.5 align-middle whitespace-nowrap">
			<svg viewBox="0 0 16 16" className={`size-4 shrink-0 ${colours[name]}`} fill="currentColor" aria-hidden="true">
				{shapes[name]}
			</svg>
			<span className={word ? undefined : "sr-only"}>{words[name]}</span>
		</span>
	);
}

const ofLevel = { critical: "failing", warning: "degraded", notice: "healthy" } as const;

/** The sign of a finding's level: the condition that it leads to. */
export function Level({ level, check }: { level: Schemas["Finding"]["level"]; check: string }) {
	return <Condition name={check === "silent" ? "silent" : ofLevel[level]} />;
}
