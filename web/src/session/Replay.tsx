import { PauseIcon, PlayIcon } from "@heroicons/react/20/solid";
import { useQuery } from "@tanstack/react-query";
import { Terminal } from "@xterm/xterm";
import "@xterm/xterm/css/xterm.css";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link, useParams } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { Choice } from "../parts/Editor";
import { Trouble, Waiting } from "../parts/Trouble";
import { Ago, span } from "../parts/time";
import { useDark } from "../theme";
import { lines, unpack } from "./run";
import { fontFamily, fontSize, look } from "./terminal";

type Recorded = { at: number; bytes?: Uint8Array; columns?: number; rows?: number; missing?: number };

const speeds = [0.5, 1, 2, 4, 8] as const;
const idle = 2; // seconds; longer pauses are cut to this where they are skipped

/** The page that plays one recording. */
export default function Replay() {
	const { id = "" } = useParams();
	const about = useQuery({
		queryKey: ["recording", id],
		queryFn: ({ signal }) => answer(api.GET("/recordings/{id}", { params: { path: { id } }, signal })),
	});
	const content = useQuery({
		queryKey: ["recording", id, "content"],
		queryFn: async ({ signal }) => {
			const all: Recorded[] = [];
			await lines<Schemas["RecordedEvent"]>(`/recordings/${id}/content`, signal, (e) =>
				all.push({
					at: e.seconds,
					bytes: e.output ? unpack(e.output) : undefined,
					columns: e.columns,
					rows: e.rows,
					missing: e.missing,
				}),
			);
			return all;
		},
		staleTime: Number.POSITIVE_INFINITY,
	});
	const error = about.error ?? content.error;
	if (error)
		return (
			<div className="p-6">
				<Trouble error={error} />
			</div>
		);
	if (!about.data || !content.data) return <Waiting what="the recording" />;
	const r = about.data;
	return (
		<div className="flex h-full flex-col px-5 py-4">
			<h1 className="text-xl font-semibold">
				Shell at{" "}
				<Link className="link" to={`/devices/${r.device_id}`}>
					{r.device}
				</Link>
			</h1>
			<p className="mb-3 text-faint">
				{r.actor}, <Ago at={r.began_at} />
				{r.person && `, as ${r.person}`}
				{r.program && `, in ${r.program}`}
				{!r.complete && ". Some of what was printed is missing."}
			</p>
			<Player events={content.data} />
		</div>
	);
}

function Player({ events }: { events: Recorded[] }) {
	const box = useRef<HTMLDivElement>(null);
	const term = useRef<Terminal>(undefined);
	const shown = useRef(0); // events that the terminal has
	const [at, setAt] = useState(0);
	const [playing, setPlaying] = useState(true);
	const [speed, setSpeed] = useState<number>(1);
	const [skip, setSkip] = useState(true);
	const [found, setFound] = useState("");
	const dark = useDark();
	// The time axis, with long pauses cut where they are skipped.
	const times = useMemo(() => {
		let [sum, before] = [0, 0];
		return events.map((e) => {
			sum += skip ? Math.min(e.at - before, idle) : e.at - before;
			before = e.at;
			return sum;
		});
	}, [events, skip]);
	const end = times.at(-1) ?? 0;
	const decoded = useMemo(() => events.map((e) => (e.bytes ? new TextDecoder().decode(e.bytes) : "")), [events]);

	useEffect(() => {
		const place = box.current;
		if (!place) return;
		const made = new Terminal({ fontFamily, fontSize, disableStdin: true, scrollback: 10_000, theme: look() });
		made.open(place);
		term.current = made;
		shown.current = 0;
		return () => {
			made.dispose();
			term.current = undefined;
		};
	}, []);

	useEffect(() => {
		if (term.current) term.current.options.theme = look();
	}, [dark]);

	/** Brings the terminal to a moment; going back begins anew. */
	useEffect(() => {
		const t = term.current;
		if (!t) return;
		let upTo = times.findIndex((x) => x > at + 1e-6);
		if (upTo < 0) upTo = events.length;
		if (upTo < shown.current) {
			t.reset();
			shown.current = 0;
		}
		for (; shown.current < upTo; shown.current++) {
			const e = events[shown.current];
			if (e?.bytes) t.write(e.bytes);
			if (e?.columns && e.rows) t.resize(e.columns, e.rows);
			if (e?.missing) t.write(`\r\n\x1b[35m${e.missing} bytes are missing here.\x1b[0m\r\n`);
		}
	}, [at, times, events]);

	useEffect(() => {
		if (!playing) return;
		let last = performance.now();
		const timer = setInterval(() => {
			const now = performance.now();
			const by = ((now - last) / 1000) * speed;
			last = now;
			setAt((old) => {
				if (old + by >= end) setPlaying(false);
				return Math.min(old + by, end);
			});
		}, 50);
		return () => clearInterval(timer);
	}, [playing, speed, end]);

	const find = () => {
		const after = times.findIndex((x) => x > at + 1e-6);
		const order = [...decoded.keys()].map((i) => (i + Math.max(after, 0)) % decoded.length);
		const hit = order.find((i) => decoded[i]?.toLowerCase().includes(found.toLowerCase()));
		if (hit !== undefined) {
			setPlaying(false);
			setAt(times[hit] ?? 0);
		}
	};
	return (
		<>
			<div className="mb-2 flex flex-wrap items-center gap-3">
				<button
					type="button"
					className="button"
					onClick={() => {
						if (at >= end) setAt(0);
						setPlaying(!playing);
					}}
				>
					{playing ? <PauseIcon className="size-4" /> : <PlayIcon className="size-4" />}
					{playing ? "Pause" : "Play"}
				</button>
				<input
					type="range"
					className="min-w-48 flex-1 accent-heather"
					aria-label="Moment"
					min={0}
					max={end}
					step={0.1}
					value={at}
					onChange={(e) => setAt(Number(e.target.value))}
				/>
				<span className="w-32 text-right text-faint tabular-nums">
					{span(at)} of {span(end)}
				</span>
				<div role="toolbar" aria-label="Speed">
					<Choice of={speeds} chosen={speeds.find((s) => s === speed)} name={(s) => `${s}×`} onChoose={setSpeed} />
				</div>
				<label className="flex items-center gap-1.5">
					<input
						type="checkbox"
						className="size-4 accent-heather"
						checked={skip}
						onChange={(e) => setSkip(e.target.checked)}
					/>
					Skip idle
				</label>
				<form
					onSubmit={(e) => {
						e.preventDefault();
						if (found) find();
					}}
				>
					<input
						type="search"
						className="field w-44 py-1"
						aria-label="Find in the recording"
						placeholder="Find, and go there"
						value={found}
						onChange={(e) => setFound(e.target.value)}
					/>
				</form>
			</div>
			<div ref={box} className="min-h-0 flex-1 overflow-auto rounded-md border border-line bg-page p-2" />
		</>
	);
}
