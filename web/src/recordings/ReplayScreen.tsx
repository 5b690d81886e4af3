import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { asProblem, ProblemError, type Schemas } from "../api/client";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Decoder, Reader } from "../screen/decode";
import { Axis, useAxis } from "./Axis";

type Entry = { at: number; kind: number; data: Uint8Array };

const kinds = { update: 1, event: 2, mark: 3, gap: 4 };

/** The entries of a piece of a screen's recording, as core/recording writes them. */
function entries(piece: Uint8Array): Entry[] {
	const all: Entry[] = [];
	const in_ = new Reader(piece);
	while (in_.left > 0) {
		const kind = in_.byte();
		const at = in_.number() / 1000;
		all.push({ at, kind, data: in_.take(in_.number()) });
	}
	return all;
}

async function read(r: Schemas["Recording"], signal: AbortSignal, onPiece: (n: number) => void): Promise<Entry[]> {
	const all: Entry[] = [];
	for (let n = 0; n < r.pieces; n++) {
		const answer = await fetch(`/api/v1/recordings/${r.id}/pieces/${n}`, { signal });
		if (!answer.ok) throw new ProblemError(asProblem(await answer.json().catch(() => null), answer.status));
		all.push(...entries(new Uint8Array(await answer.arrayBuffer())));
		onPiece(n + 1);
	}
	return all;
}

/** Plays what a screen showed, with what was done to it and said at it. */
export function ReplayScreen({ recording }: { recording: Schemas["Recording"] }) {
	const [pieces, setPieces] = useState(0);
	const content = useQuery({
		queryKey: ["recording", recording.id, "pieces"],
		queryFn: ({ signal }) => read(recording, signal, setPieces),
		staleTime: Number.POSITIVE_INFINITY,
		gcTime: 0,
	});
	if (content.isError) return <ProblemAlert error={content.error} retry={() => content.refetch()} />;
	if (!content.data) return <Waiting what={`the recording, ${pieces} of ${recording.pieces} pieces`} />;
	return <Player entries={content.data} />;
}

const decoder = new TextDecoder();

/** What a mark says that somebody did, in a word; nothing where they only moved. */
function action(e: Entry) {
	const m: Schemas["ScreenInput"] = JSON.parse(decoder.decode(e.data));
	if (m.key?.down) return "key";
	if (m.pointer?.buttons) return "button";
	if (m.wheel) return "wheel";
	if (m.clip) return "clipboard";
	if (m.attend) return "Ctrl+Alt+Del";
	return m.mode;
}

function Player({ entries }: { entries: Entry[] }) {
	const canvas = useRef<HTMLCanvasElement>(null);
	const axis = useAxis(entries);
	const [said, setSaid] = useState<Schemas["ScreenNote"][]>([]);
	const [did, setDid] = useState("");
	const [problem, setProblem] = useState<unknown>();
	// Drawing takes time, and one entry is drawn after the other; the latest moment that was asked for wins.
	const show = useRef<{ wanted: number; shown: number; busy: boolean }>({ wanted: 0, shown: 0, busy: false });
	const hidden = useMemo(() => new OffscreenCanvas(1, 1), []);
	const marks = useMemo(
		() => entries.flatMap((e, i) => (e.kind === kinds.mark && action(e) ? [axis.times[i] ?? 0] : [])),
		[entries, axis.times],
	);

	useEffect(() => {
		const state = show.current;
		state.wanted = axis.upTo;
		if (state.busy) return;
		state.busy = true;
		const surface = hidden.getContext("2d", { alpha: false, willReadFrequently: true });
		const draw = async () => {
			let inner = drawers.get(hidden);
			while (surface && state.shown !== state.wanted) {
				if (state.wanted < state.shown || !inner) {
					inner = new Decoder(surface);
					drawers.set(hidden, inner);
					state.shown = 0;
					setSaid([]);
				}
				const notes: Schemas["ScreenNote"][] = [];
				const until = state.wanted;
				for (; state.shown < until && state.wanted >= until; state.shown++) {
					const e = entries[state.shown];
					if (e?.kind === kinds.update) await inner.draw(e.data);
					if (e?.kind === kinds.mark) setDid(action(e) ?? "");
					if (e?.kind === kinds.event) {
						const event: Schemas["ScreenEvent"] = JSON.parse(decoder.decode(e.data));
						if (event.note) notes.push(event.note);
					}
				}
				if (notes.length) setSaid((old) => [...old, ...notes]);
				const to = canvas.current;
				if (!to) break;
				if (to.width !== hidden.width || to.height !== hidden.height) {
					to.width = hidden.width;
					to.height = hidden.height;
				}
				to.getContext("2d", { alpha: false })?.drawImage(hidden, 0, 0);
			}
		};
		draw()
			.catch(setProblem)
			.finally(() => {
				state.busy = false;
			});
	}, [axis.upTo, entries, hidden]);

	if (problem) return <ProblemAlert error={problem} />;
	return (
		<>
			<Axis axis={axis} marks={marks} />
			<div className="flex min-h-0 flex-1 gap-3">
				<div className="relative min-h-0 min-w-0 flex-1 rounded-md border border-line bg-black/90">
					<canvas
						ref={canvas}
						role="img"
						className="absolute inset-0 size-full object-contain"
						aria-label="What the screen showed"
					/>
				</div>
				{said.length > 0 && (
					<ol aria-label="What was said" className="w-56 space-y-2 overflow-auto">
						{said.map((n) => (
							<li key={`${n.at} ${n.text}`}>
								<span className="font-medium">{n.name}</span>
								<br />
								{n.text}
							</li>
						))}
					</ol>
				)}
			</div>
			<p className="h-5 text-faint text-sm">{did && `Last done: ${did}`}</p>
		</>
	);
}

/** By the canvas that it draws on, what a player keeps from one update to the next. */
const drawers = new WeakMap<OffscreenCanvas, Decoder>();
