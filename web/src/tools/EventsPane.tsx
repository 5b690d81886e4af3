import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import type { Device, Schemas } from "../api/client";
import { read } from "../api/queries";
import { SelectField, TextField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { save } from "../parts/save";
import { Controls, Pane } from "./Pane";
import { StayBox, Tail, useTail } from "./Tail";
import { useLines } from "./useLines";

type Event = Schemas["Event"];

const levels = ["emergency", "alert", "critical", "error", "warning", "notice", "info", "debug"] as const;
const most = 20_000; // events on the page; older ones are dropped
const tone: Record<string, string> = {
	emergency: "text-rowan font-semibold",
	alert: "text-rowan font-semibold",
	critical: "text-rowan font-semibold",
	error: "text-rowan",
	warning: "text-gorse",
};
const today = new Intl.DateTimeFormat(undefined, {
	hour: "2-digit",
	minute: "2-digit",
	second: "2-digit",
	hourCycle: "h23",
});
const clock = new Intl.DateTimeFormat(undefined, {
	month: "short",
	day: "2-digit",
	hour: "2-digit",
	minute: "2-digit",
	second: "2-digit",
	hourCycle: "h23",
});

/** A time of today without its day. */
function short(at: string) {
	const time = new Date(at);
	if (time.getFullYear() < 1980) return ""; // the line tells no time
	return (time.toDateString() === new Date().toDateString() ? today : clock).format(time);
}

/** The log that most questions are about, where one has not chosen. */
function usual(of: Schemas["EventSource"][]) {
	const best = ["journal", "system", "/var/log/syslog", "/var/log/messages", "/var/log/system.log"];
	return of.find((s) => best.includes(s.name.toLowerCase())) ?? of[0];
}

/** The logs of a device in one view: what was, and then what comes, as it comes. */
export function EventsPane({ device, onClose }: { device: Device; onClose: () => void }) {
	const [params] = useSearchParams();
	const around = params.get("around"); // a moment, such as that of an alert
	const sources = useQuery(read("/devices/{id}/event-sources", { path: { id: device.id } }));
	const [source, setSource] = useState<string>();
	const [unit, setUnit] = useState(params.get("unit") ?? "");
	const [level, setLevel] = useState("");
	const [moment, setMoment] = useState(around);
	const chosen = sources.data?.items.find((s) => s.name === source) ?? usual(sources.data?.items ?? []);
	const query: Schemas["EventQuery"] | undefined = chosen && {
		source: chosen.name,
		unit: unit || undefined,
		level: (level || undefined) as "error" | undefined,
		last: 2000,
		...(moment
			? {
					since: new Date(Date.parse(moment) - 600_000).toISOString(),
					until: new Date(Date.parse(moment) + 600_000).toISOString(),
				}
			: { follow: true }),
	};
	return (
		<Pane title="Event logs" onClose={onClose} status={chosen?.title}>
			<Controls>
				<SelectField
					label="Log"
					hidden
					className="w-auto max-w-40 py-0.5 text-sm"
					value={chosen?.name ?? ""}
					onChange={(v) => {
						setSource(v);
						setUnit("");
					}}
				>
					{sources.data?.items.map((s) => (
						<option key={s.name} value={s.name}>
							{s.title}
						</option>
					))}
				</SelectField>
				{chosen?.units && chosen.units.length > 0 && (
					<SelectField label="Source" hidden className="w-auto max-w-44 py-0.5 text-sm" value={unit} onChange={setUnit}>
						<option value="">every source</option>
						{unit && !chosen.units.includes(unit) && <option value={unit}>{unit}</option>}
						{chosen.units.map((u) => (
							<option key={u} value={u}>
								{u}
							</option>
						))}
					</SelectField>
				)}
				<SelectField label="Level" hidden className="w-auto py-0.5 text-sm" value={level} onChange={setLevel}>
					<option value="">every level</option>
					{levels.slice(0, -1).map((l) => (
						<option key={l} value={l}>
							{l} and worse
						</option>
					))}
				</SelectField>
				{moment && (
					<button type="button" className="button-quiet text-sm" onClick={() => setMoment(null)}>
						Around {clock.format(new Date(moment))} – go to now
					</button>
				)}
			</Controls>
			{sources.isError && <ProblemAlert error={sources.error} retry={() => sources.refetch()} />}
			{sources.isPending && <Waiting what="the logs" />}
			{sources.data && !chosen && <Empty title="This device has no log that the agent can read." />}
			{query && <Log key={JSON.stringify(query)} device={device} query={query} />}
		</Pane>
	);
}

function Log({ device, query }: { device: Device; query: Schemas["EventQuery"] }) {
	const { items: events, push } = useTail<Event>(most);
	const [live, setLive] = useState(false);
	const [skipped, setSkipped] = useState(0);
	const [typed, setTyped] = useState("");
	const [stay, setStay] = useState(true); // at the end
	const text = useDeferredValue(typed);
	const stream = useLines<Schemas["EventBatch"]>(`/devices/${device.id}/events`, query, (b) => {
		if (b.skipped) setSkipped((n) => n + (b.skipped ?? 0));
		if (b.live) setLive(true);
		push(b.events ?? []);
	});
	const shown = useMemo(() => {
		if (!text) return events;
		let holds = (s: string) => s.toLowerCase().includes(text.toLowerCase());
		try {
			const pattern = new RegExp(text, "i");
			holds = (s) => pattern.test(s);
		} catch {
			// while a pattern is being typed it is taken as it is
		}
		return events.filter((e) => holds(`${e.unit ?? ""} ${e.message}`));
	}, [events, text]);
	return (
		<>
			<div className="flex items-center gap-2 border-line border-b px-3 py-1.5">
				<TextField
					label="Filter events"
					hidden
					className="max-w-56 py-0.5"
					type="search"
					placeholder="Text or pattern"
					value={typed}
					onChange={setTyped}
				/>
				<span className="text-faint text-sm tabular-nums" role="status">
					{shown.length === events.length ? events.length : `${shown.length} of ${events.length}`} events
					{query.follow && live && stream.error === undefined && ", live"}
					{skipped > 0 && `, ${skipped} left out as they came too fast`}
				</span>
				<StayBox stay={stay} setStay={setStay} />
				<button
					type="button"
					className="button-quiet text-sm"
					disabled={shown.length === 0}
					onClick={() =>
						save(
							`${device.name}-${query.source.replaceAll("/", "_")}.log`,
							shown.map((e) => `${e.at} ${e.level ?? "-"} ${e.unit ?? "-"} ${e.message}`).join("\n"),
						)
					}
				>
					Save
				</button>
			</div>
			{stream.error !== undefined && <ProblemAlert error={stream.error} retry={stream.retry} />}
			{events.length === 0 && !live && stream.error === undefined && <Waiting what="the log" />}
			{events.length === 0 && live && (
				<Empty title="Nothing was written.">
					{query.follow ? "What comes appears here at once." : "Choose another level or source."}
				</Empty>
			)}
			<Tail label="Events" items={shown} stay={stay} setStay={setStay} className="flex gap-3 py-px hover:bg-panel">
				{(e) => (
					<>
						<span className="shrink-0 text-faint tabular-nums">{short(e.at)}</span>
						<span className={`w-16 shrink-0 ${tone[e.level ?? ""] ?? "text-faint"}`}>{e.level}</span>
						<span className="hidden w-36 shrink-0 truncate text-faint @xl:block" title={e.unit}>
							{e.unit}
						</span>
						<span className="min-w-0 whitespace-pre-wrap break-words">
							<span className="text-faint @xl:hidden">{e.unit && `${e.unit}: `}</span>
							{e.message}
						</span>
					</>
				)}
			</Tail>
		</>
	);
}
