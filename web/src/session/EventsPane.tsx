import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useDeferredValue, useEffect, useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { answer, api, type Device, type Schemas } from "../api/client";
import { Empty, Trouble, Waiting } from "../parts/Trouble";
import { Controls, Pane } from "./Pane";
import { save } from "./save";
import { useLines } from "./useLines";

type Event = Schemas["Event"] & { n: number };

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
	return (time.toDateString() === new Date().toDateString() ? today : clock).format(time);
}

/** The logs of a device in one view: what was, and then what comes, as it comes. */
export function EventsPane({ device, onClose }: { device: Device; onClose: () => void }) {
	const [params] = useSearchParams();
	const around = params.get("around"); // a moment, such as that of an alert
	const sources = useQuery({
		queryKey: ["event-sources", device.id],
		queryFn: ({ signal }) =>
			answer(api.GET("/devices/{id}/event-sources", { params: { path: { id: device.id } }, signal })),
	});
	const [source, setSource] = useState<string>();
	const [unit, setUnit] = useState(params.get("unit") ?? "");
	const [level, setLevel] = useState("");
	const [moment, setMoment] = useState(around);
	const chosen = sources.data?.items.find((s) => s.name === source) ?? sources.data?.items[0];
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
				<select
					className="field w-auto max-w-40 py-0.5 text-sm"
					aria-label="Log"
					value={chosen?.name ?? ""}
					onChange={(e) => {
						setSource(e.target.value);
						setUnit("");
					}}
				>
					{sources.data?.items.map((s) => (
						<option key={s.name} value={s.name}>
							{s.title}
						</option>
					))}
				</select>
				{chosen?.units && chosen.units.length > 0 && (
					<select
						className="field w-auto max-w-44 py-0.5 text-sm"
						aria-label="Source"
						value={unit}
						onChange={(e) => setUnit(e.target.value)}
					>
						<option value="">every source</option>
						{unit && !chosen.units.includes(unit) && <option value={unit}>{unit}</option>}
						{chosen.units.map((u) => (
							<option key={u} value={u}>
								{u}
							</option>
						))}
					</select>
				)}
				<select
					className="field w-auto py-0.5 text-sm"
					aria-label="Level"
					value={level}
					onChange={(e) => setLevel(e.target.value)}
				>
					<option value="">every level</option>
					{levels.slice(0, -1).map((l) => (
						<option key={l} value={l}>
							{l} and worse
						</option>
					))}
				</select>
				{moment && (
					<button type="button" className="button-quiet text-sm" onClick={() => setMoment(null)}>
						Around {clock.format(new Date(moment))} – go to now
					</button>
				)}
			</Controls>
			{sources.isError && <Trouble error={sources.error} retry={() => sources.refetch()} />}
			{sources.isPending && <Waiting what="the logs" />}
			{sources.data && !chosen && <Empty title="This device has no log that the agent can read." />}
			{query && <Log key={JSON.stringify(query)} device={device} query={query} />}
		</Pane>
	);
}

function Log({ device, query }: { device: Device; query: Schemas["EventQuery"] }) {
	const [events, setEvents] = useState<Event[]>([]);
	const [live, setLive] = useState(false);
	const [skipped, setSkipped] = useState(0);
	const [typed, setTyped] = useState("");
	const [stay, setStay] = useState(true); // at the end
	const text = useDeferredValue(typed);
	const waiting = useRef<Event[]>([]);
	const number = useRef(0);
	const frame = useRef<number>(undefined);
	const stream = useLines<Schemas["EventBatch"]>(`/devices/${device.id}/events`, query, (b) => {
		if (b.skipped) setSkipped((n) => n + (b.skipped ?? 0));
		if (b.live) setLive(true);
		for (const e of b.events ?? []) waiting.current.push({ ...e, n: number.current++ });
		// A log may bring thousands a second: they are put on the page once a frame.
		frame.current ??= requestAnimationFrame(() => {
			frame.current = undefined;
			const more = waiting.current;
			waiting.current = [];
			setEvents((old) => (old.length + more.length > most ? [...old, ...more].slice(-most) : [...old, ...more]));
		});
	});
	useEffect(() => () => void (frame.current !== undefined && cancelAnimationFrame(frame.current)), []);
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
	const scroll = useRef<HTMLDivElement>(null);
	const virtual = useVirtualizer({
		count: shown.length,
		getScrollElement: () => scroll.current,
		estimateSize: () => 21,
		overscan: 20,
	});
	useEffect(() => {
		if (stay && shown.length > 0) virtual.scrollToIndex(shown.length - 1, { align: "end" });
	}, [shown, stay]);
	return (
		<>
			<div className="flex items-center gap-2 border-line border-b px-3 py-1.5">
				<input
					type="search"
					className="field max-w-56 py-0.5"
					aria-label="Filter events"
					placeholder="Text or pattern"
					value={typed}
					onChange={(e) => setTyped(e.target.value)}
				/>
				<span className="text-faint text-sm tabular-nums" role="status">
					{shown.length === events.length ? events.length : `${shown.length} of ${events.length}`} events
					{query.follow && live && stream.error === undefined && ", live"}
					{skipped > 0 && `, ${skipped} left out as they came too fast`}
				</span>
				<label className="ml-auto flex items-center gap-1.5 text-sm">
					<input
						type="checkbox"
						className="accent-heather"
						checked={stay}
						onChange={(e) => setStay(e.target.checked)}
					/>
					Stay at the end
				</label>
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
			{stream.error !== undefined && <Trouble error={stream.error} retry={stream.retry} />}
			{events.length === 0 && !live && stream.error === undefined && <Waiting what="the log" />}
			{events.length === 0 && live && (
				<Empty title="Nothing was written.">
					{query.follow ? "What comes appears here at once." : "Choose another level or source."}
				</Empty>
			)}
			<div
				ref={scroll}
				className="@container min-h-0 flex-1 overflow-auto"
				role="log"
				aria-label="Events"
				aria-live="off"
				// biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reachable by keys
				tabIndex={0}
				onWheel={(e) => {
					if (e.deltaY < 0) setStay(false);
				}}
			>
				<div className="relative font-mono text-[0.8rem]" style={{ height: virtual.getTotalSize() }}>
					{virtual.getVirtualItems().map((item) => {
						const e = shown[item.index];
						if (!e) return null;
						return (
							<div
								key={e.n}
								ref={virtual.measureElement}
								data-index={item.index}
								className="absolute inset-x-0 flex gap-3 px-3 py-px hover:bg-panel"
								style={{ transform: `translateY(${item.start}px)` }}
							>
								<span className="shrink-0 text-faint tabular-nums">{short(e.at)}</span>
								<span className={`w-16 shrink-0 ${tone[e.level ?? ""] ?? "text-faint"}`}>{e.level}</span>
								<span className="hidden w-36 shrink-0 truncate text-faint @xl:block" title={e.unit}>
									{e.unit}
								</span>
								<span className="min-w-0 whitespace-pre-wrap break-words">
									<span className="text-faint @xl:hidden">{e.unit && `${e.unit}: `}</span>
									{e.message}
								</span>
							</div>
						);
					})}
				</div>
			</div>
		</>
	);
}
