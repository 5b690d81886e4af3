import { type KeyboardEvent, type PointerEvent, Suspense, useRef, useState } from "react";
import type { Device } from "../api/client";
import { Waiting } from "../parts/ProblemAlert";
import { OnBench } from "../tools/Pane";
import type { BenchTool } from "./tools";

const panesKey = "moorwatch panes";

/** The tools that were open side by side last, in their order. */
export function lastPanes(): string[] {
	return (localStorage.getItem(panesKey) ?? "").split(",").filter(Boolean);
}

export function rememberPanes(panes: string[]) {
	localStorage.setItem(panesKey, panes.join(","));
}

/** The shares of columns and rows, as they were left when so many panes were open. */
function useShares(panes: number, columns: number, rows: number) {
	const key = `moorwatch arrangement ${panes}`;
	const [kept, setKept] = useState<Record<string, number[]>>({});
	const read = (): number[] => {
		const own = kept[key];
		if (own) return own;
		try {
			const all = JSON.parse(localStorage.getItem(key) ?? "");
			if (Array.isArray(all) && all.length === columns + rows && all.every((n) => n > 0)) return all;
		} catch {
			// none was kept
		}
		return Array(columns + rows).fill(1);
	};
	const shares = read();
	const keep = (next: number[]) => {
		setKept({ ...kept, [key]: next });
		localStorage.setItem(key, JSON.stringify(next.map((n) => Math.round(n * 1000) / 1000)));
	};
	return { shares, keep };
}

const least = 0.15; // of two neighbours, the share that the smaller keeps

/**
 * Panes side by side, in two rows where there are more than two. They are children of one grid, so
 * that opening or closing one leaves the others, and what runs in them, alone. The borders between
 * them can be moved, and stay where they were left.
 */
export function Arrangement({
	panes,
	device,
	onClose,
}: {
	panes: BenchTool[];
	device: Device;
	onClose: (pane: string) => void;
}) {
	const box = useRef<HTMLDivElement>(null);
	const columns = panes.length > 2 ? Math.ceil(panes.length / 2) : Math.max(panes.length, 1);
	const rows = Math.ceil(panes.length / columns) || 1;
	const { shares, keep } = useShares(panes.length, columns, rows);
	if (panes.length === 0) return null;
	const spare = columns * rows - panes.length;
	const across = shares.slice(0, columns);
	const down = shares.slice(columns);
	const template = (all: number[]) => all.map((n) => `minmax(0, ${n}fr)`).join(" ");
	const upTo = (all: number[], i: number) =>
		(100 * all.slice(0, i + 1).reduce((a, b) => a + b, 0)) / all.reduce((a, b) => a + b, 0);
	/** Moves the border after the nth share by a part of the whole. */
	const move = (n: number, by: number) => {
		const [a, b] = [shares[n], shares[n + 1]];
		if (a === undefined || b === undefined) return;
		const whole = (n < columns ? across : down).reduce((x, y) => x + y, 0);
		const to = Math.min(Math.max(a + by * whole, least * (a + b)), (1 - least) * (a + b));
		keep(shares.with(n, to).with(n + 1, a + b - to));
	};
	return (
		<div
			ref={box}
			className="relative grid min-h-0 flex-1"
			style={{ gridTemplateColumns: template(across), gridTemplateRows: template(down) }}
		>
			{panes.map(({ pane, Pane }, i) => (
				<div
					key={pane}
					className="flex min-h-0 min-w-0 border-line border-b border-l"
					style={i === panes.length - 1 ? { gridColumn: `span ${spare + 1}` } : undefined}
				>
					<Suspense fallback={<Waiting what="the tool" />}>
						<OnBench value={{ device: device.id, pane }}>
							<Pane device={device} onClose={() => onClose(pane)} />
						</OnBench>
					</Suspense>
				</div>
			))}
			{across.slice(1).map((_, i) => (
				<Border
					key={`across ${columns} ${i}`}
					of={box}
					at={upTo(across, i)}
					long={spare > 0 && i >= columns - 1 - spare ? upTo(down, rows - 2) : 100}
					onMove={(by) => move(i, by)}
				/>
			))}
			{down.slice(1).map((_, i) => (
				<Border
					key={`down ${rows} ${i}`}
					of={box}
					down
					at={upTo(down, i)}
					long={100}
					onMove={(by) => move(columns + i, by)}
				/>
			))}
		</div>
	);
}

/** A border that is moved by dragging it, or by the arrow keys. */
function Border({
	of,
	at,
	long,
	down = false,
	onMove,
}: {
	of: { current: HTMLDivElement | null };
	at: number; // percent
	long: number; // percent
	down?: boolean; // it parts what stands above each other
	onMove: (by: number) => void;
}) {
	const from = useRef<number>(undefined);
	const size = () => (down ? of.current?.clientHeight : of.current?.clientWidth) ?? 1;
	const where = (e: PointerEvent) => (down ? e.clientY : e.clientX);
	return (
		<div
			role="separator"
			tabIndex={0}
			aria-orientation={down ? "horizontal" : "vertical"}
			aria-label="Border between tools"
			aria-valuenow={Math.round(at)}
			className={`absolute z-10 touch-none hover:bg-heather/40 focus-visible:bg-heather/40 ${down ? "left-0 h-1.5 w-full cursor-row-resize" : "top-0 w-1.5 cursor-col-resize"}`}
			style={
				down ? { top: `calc(${at}% - 3px)`, width: `${long}%` } : { left: `calc(${at}% - 3px)`, height: `${long}%` }
			}
			onPointerDown={(e) => {
				from.current = where(e);
				e.currentTarget.setPointerCapture(e.pointerId);
			}}
			onPointerMove={(e) => {
				if (from.current === undefined) return;
				const to = where(e);
				onMove((to - from.current) / size());
				from.current = to;
			}}
			onPointerUp={() => {
				from.current = undefined;
			}}
			onKeyDown={(e: KeyboardEvent) => {
				const by = { ArrowLeft: -1, ArrowUp: -1, ArrowRight: 1, ArrowDown: 1 }[e.key];
				if (by) {
					e.preventDefault();
					onMove(by * 0.02);
				}
			}}
		/>
	);
}
