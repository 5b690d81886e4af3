import { useQuery } from "@tanstack/react-query";
import { Terminal } from "@xterm/xterm";
import { read } from "../api/queries";
import { TextField } from "../parts/fields";
import "@xterm/xterm/css/xterm.css";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../api/client";
import { lines, unpack } from "../api/lines";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { useDark } from "../parts/theme";
import { Ago } from "../parts/time";
import { fontFamily, fontSize, look } from "../tools/terminal";
import { Axis, useAxis } from "./Axis";
import { ReplayScreen } from "./ReplayScreen";

type Recorded = { at: number; bytes?: Uint8Array; columns?: number; rows?: number; missing?: number };

/** The page that plays one recording. */
export default function Replay() {
	const { id = "" } = useParams();
	const about = useQuery(read("/recordings/{id}", { path: { id } }));
	const shell = about.data?.kind === "shell";
	const content = useQuery({
		enabled: shell,
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
				<ProblemAlert error={error} />
			</div>
		);
	if (!about.data || (shell && !content.data)) return <Waiting what="the recording" />;
	const r = about.data;
	return (
		<div className="flex h-full flex-col px-5 py-4">
			<h1 className="text-xl font-semibold">
				{shell ? "Shell" : "Screen"} at{" "}
				<Link className="link" to={`/devices/${r.device_id}`}>
					{r.device}
				</Link>
			</h1>
			<p className="mb-3 text-faint">
				{r.actor}, <Ago at={r.began_at} />
				{r.person && `, as ${r.person}`}
				{r.program && `, in ${r.program}`}
				{!r.complete && ". Some of it is missing."}
			</p>
			{content.data ? <Player events={content.data} /> : <ReplayScreen recording={r} />}
		</div>
	);
}

function Player({ events }: { events: Recorded[] }) {
	const box = useRef<HTMLDivElement>(null);
	const term = useRef<Terminal>(undefined);
	const shown = useRef(0); // events that the terminal has
	const axis = useAxis(events);
	const { at, setAt, setPlaying, times, upTo } = axis;
	const [found, setFound] = useState("");
	const dark = useDark();
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
	}, [upTo, events]);

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
			<Axis axis={axis}>
				<form
					onSubmit={(e) => {
						e.preventDefault();
						if (found) find();
					}}
				>
					<TextField
						label="Find in the recording"
						hidden
						className="w-44 py-1"
						type="search"
						placeholder="Find, and go there"
						value={found}
						onChange={setFound}
					/>
				</form>
			</Axis>
			<div ref={box} className="min-h-0 flex-1 overflow-auto rounded-md border border-line bg-page p-2" />
		</>
	);
}
