import { PlayIcon, StopIcon } from "@heroicons/react/20/solid";

import { useEffect, useRef, useState } from "react";
import type { Device } from "../api/client";
import { run, unpack } from "../api/lines";
import { ProblemAlert } from "../parts/ProblemAlert";
import { Pane } from "./Pane";

type Piece = { key: number; kind: "out" | "err" | "note"; text: string };

const mostShown = 400_000; // characters; older output is dropped from the page

/** Runs one command after another at a device. */
export function CommandPane({ device, onClose }: { device: Device; onClose: () => void }) {
	const [line, setLine] = useState("");
	const [pieces, setPieces] = useState<Piece[]>([]);
	const [running, setRunning] = useState<AbortController>();
	const [error, setError] = useState<unknown>();
	const past = useRef<{ lines: string[]; at: number }>({ lines: [], at: 0 });
	const end = useRef<HTMLDivElement>(null);

	useEffect(() => {
		if (pieces.length > 0) end.current?.scrollIntoView({ block: "end" });
	}, [pieces]);
	useEffect(() => {
		if (!running) return;
		// A browser may keep a page that was left, and with it a command that nobody sees.
		const leave = () => running.abort();
		window.addEventListener("pagehide", leave);
		return () => {
			window.removeEventListener("pagehide", leave);
			running.abort();
		};
	}, [running]);

	const start = async () => {
		const stop = new AbortController();
		const decoders = { out: new TextDecoder(), err: new TextDecoder() };
		const add = (kind: Piece["kind"], text: string) => setPieces((old) => append(old, kind, text));
		setRunning(stop);
		setError(undefined);
		past.current = { lines: [...past.current.lines, line], at: past.current.lines.length + 1 };
		add("note", `$ ${line}\n`);
		setLine("");
		try {
			await run(device.id, { argv: [line], line: true }, stop.signal, (e) => {
				if (e.stdout) add("out", decoders.out.decode(unpack(e.stdout), { stream: true }));
				if (e.stderr) add("err", decoders.err.decode(unpack(e.stderr), { stream: true }));
				if (e.error) add("err", `${e.error}\n`);
				if (e.exit !== undefined)
					add("note", `exit status ${e.exit} after ${(e.elapsed_seconds ?? 0).toFixed(1)} s\n\n`);
			});
		} catch (problem) {
			if (stop.signal.aborted) add("note", "ended by you\n\n");
			else setError(problem);
		} finally {
			setRunning(undefined);
		}
	};
	const recall = (by: number) => {
		const { lines, at } = past.current;
		const next = Math.min(Math.max(at + by, 0), lines.length);
		past.current.at = next;
		setLine(lines[next] ?? "");
	};
	return (
		<Pane title="Command" onClose={onClose} status={running ? "running…" : undefined}>
			<div className="flex h-full flex-col">
				{/* biome-ignore lint/a11y/noNoninteractiveTabindex: output that scrolls must be reachable by keys */}
				<div className="min-h-0 flex-1 overflow-auto px-3 py-2" tabIndex={0} role="log" aria-label="Output">
					{pieces.length === 0 && !error && (
						<p className="text-faint">
							Runs in the background, with the agent's rights. Output appears here as it comes.
						</p>
					)}
					<pre className="font-mono text-sm whitespace-pre-wrap break-words">
						{pieces.map((p) => (
							<span
								key={p.key}
								className={p.kind === "err" ? "text-rowan" : p.kind === "note" ? "text-heather" : undefined}
							>
								{p.text}
							</span>
						))}
					</pre>
					{error !== undefined && <ProblemAlert error={error} />}
					<div ref={end} />
				</div>
				<form
					className="flex gap-2 border-line border-t p-2"
					onSubmit={(e) => {
						e.preventDefault();
						if (!running && line.trim()) start();
					}}
				>
					<input
						className="field font-mono text-sm"
						aria-label="Command"
						placeholder="A command line for this device"
						value={line}
						autoComplete="off"
						spellCheck={false}
						onChange={(e) => setLine(e.target.value)}
						onKeyDown={(e) => {
							if (e.key === "ArrowUp" || e.key === "ArrowDown") {
								e.preventDefault();
								recall(e.key === "ArrowUp" ? -1 : 1);
							}
						}}
					/>
					{running ? (
						<button type="button" className="button" onClick={() => running.abort()}>
							<StopIcon className="size-4" aria-hidden="true" /> End
						</button>
					) : (
						<button type="submit" className="button" disabled={!line.trim()}>
							<PlayIcon className="size-4" aria-hidden="true" /> Run
						</button>
					)}
				</form>
			</div>
		</Pane>
	);
}

/** Joins text to the last piece of its kind, and drops the oldest where there is too much. */
function append(old: Piece[], kind: Piece["kind"], text: string): Piece[] {
	const last = old.at(-1);
	const next =
		last?.kind === kind && last.text.length < 20_000
			? [...old.slice(0, -1), { ...last, text: last.text + text }]
			: [...old, { key: (last?.key ?? 0) + 1, kind, text }];
	let size = next.reduce((n, p) => n + p.text.length, 0);
	while (size > mostShown && next.length > 1) size -= next.shift()?.text.length ?? 0;
	return next;
}
