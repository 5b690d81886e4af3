import { type PointerEvent, type RefObject, useRef } from "react";
import type { Connection } from "./connection";
import type { Zoom } from "./View";

const slack = 8; // pixels that a finger may move and still press
const long = 500; // ms after which a press is one of the second button
const step = 30; // pixels of two fingers for one step of the wheel
const pinch = 0.08; // the share by which two fingers must part, or come together, to zoom

/** Where a finger is, in pixels of the page. */
export type Touch = { id: number; x: number; y: number };

/** What fingers do at a desktop. */
export type Effects = {
	point: (x: number, y: number, buttons: number) => void;
	wheel: (turns: number) => void; // downwards where they are negative
	/** Moves what is seen of a desktop that is larger than its place; false where all of it is seen. */
	pan: (dx: number, dy: number) => boolean;
	zoom: (scale: number) => void; // 0.1 to 8
	held: () => void; // the second button was pressed by staying
	release: () => void;
};

type Finger = { x: number; y: number; fromX: number; fromY: number };

/**
 * Fingers on a desktop: one presses, or drags; one that stays presses the second button; two turn the
 * wheel, or pan and pinch.
 */
export class Gestures {
	private fingers = new Map<number, Finger>();
	private stay: ReturnType<typeof setTimeout> | undefined;
	private does: "" | "drag" | "two" | "done" = "";
	private two = { spread: 1, scale: 1, x: 0, y: 0, rest: 0 };

	constructor(private effects: () => Effects) {}

	private middle() {
		const [a, b] = [...this.fingers.values()];
		if (!a || !b) return;
		return { x: (a.x + b.x) / 2, y: (a.y + b.y) / 2, spread: Math.hypot(a.x - b.x, a.y - b.y) };
	}

	/** A finger comes; scale is how large the desktop is shown. */
	down({ id, x, y }: Touch, scale: number) {
		this.fingers.set(id, { x, y, fromX: x, fromY: y });
		clearTimeout(this.stay);
		const m = this.middle();
		if (m) {
			if (this.does === "drag") this.effects().point(m.x, m.y, 0);
			this.does = "two";
			this.two = { ...m, scale, rest: 0 };
			return;
		}
		this.does = "";
		this.stay = setTimeout(() => {
			this.does = "done";
			this.effects().point(x, y, 2);
			this.effects().point(x, y, 0);
			this.effects().held();
		}, long);
	}

	move({ id, x, y }: Touch) {
		const f = this.fingers.get(id);
		if (!f) return;
		f.x = x;
		f.y = y;
		const m = this.middle();
		if (m && this.does === "two") {
			this.both(m);
			return;
		}
		if (this.does === "" && Math.hypot(f.x - f.fromX, f.y - f.fromY) > slack) {
			clearTimeout(this.stay);
			this.does = "drag";
			this.effects().point(f.fromX, f.fromY, 1);
		}
		if (this.does === "drag") this.effects().point(f.x, f.y, 1);
	}

	/** Two fingers are now here. */
	private both(m: { x: number; y: number; spread: number }) {
		const t = this.two;
		const by = m.spread / Math.max(t.spread, 1);
		const pinched = Math.abs(by - 1) > pinch;
		if (pinched) this.effects().zoom(Math.min(Math.max(t.scale * by, 0.1), 8));
		if (!this.effects().pan(t.x - m.x, t.y - m.y) && !pinched) {
			t.rest += t.y - m.y;
			const turns = Math.trunc(t.rest / step);
			t.rest -= turns * step;
			if (turns) this.effects().wheel(turns);
		}
		t.x = m.x;
		t.y = m.y;
	}

	up({ id }: Pick<Touch, "id">) {
		clearTimeout(this.stay);
		const f = this.fingers.get(id);
		this.fingers.delete(id);
		if (!f) return;
		if (this.does === "") {
			for (const buttons of [0, 1, 0]) this.effects().point(f.x, f.y, buttons);
		} else if (this.does === "drag") this.effects().point(f.x, f.y, 0);
		this.does = this.fingers.size === 0 ? "" : "done";
	}

	/** The system took the finger: nothing it began stays held. */
	cancel({ id }: Pick<Touch, "id">) {
		clearTimeout(this.stay);
		if (this.fingers.delete(id) && this.does === "drag") this.effects().release();
		this.does = "";
	}
}

/** Gestures on the box that shows a desktop. */
export function useTouch({
	connection,
	at,
	hands,
	scale,
	setZoom,
	box,
}: {
	connection: Connection;
	at: (x: number, y: number) => { x: number; y: number };
	hands: boolean;
	scale: number;
	setZoom: (z: Zoom) => void;
	box: RefObject<HTMLDivElement | null>;
}) {
	const effects: Effects = {
		point: (x, y, buttons) => hands && connection.point({ ...at(x, y), buttons }),
		wheel: (turns) => hands && connection.send({ wheel: { x: 0, y: turns } }),
		pan: (dx, dy) => {
			const area = box.current;
			if (!area || (area.scrollWidth <= area.clientWidth && area.scrollHeight <= area.clientHeight)) return false;
			area.scrollBy(dx, dy);
			return true;
		},
		zoom: setZoom,
		held: () => navigator.vibrate?.(20),
		release: () => connection.release(),
	};
	const now = useRef(effects);
	now.current = effects;
	const gestures = useRef<Gestures>(undefined);
	gestures.current ??= new Gestures(() => now.current);
	const g = gestures.current;
	const touch = (e: PointerEvent): Touch => ({ id: e.pointerId, x: e.clientX, y: e.clientY });
	return {
		down(e: PointerEvent) {
			e.currentTarget.setPointerCapture(e.pointerId);
			g.down(touch(e), scale * window.devicePixelRatio);
		},
		move: (e: PointerEvent) => g.move(touch(e)),
		up: (e: PointerEvent) => g.up(touch(e)),
		cancel: (e: PointerEvent) => g.cancel(touch(e)),
	};
}
