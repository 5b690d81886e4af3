import { type PointerEvent, type RefObject, useRef } from "react";
import type { Connection } from "./connection";
import type { Zoom } from "./View";

type Finger = { x: number; y: number; fromX: number; fromY: number };

const slack = 8; // pixels that a finger may move and still press
const long = 500; // ms after which a press is one of the second button
const step = 30; // pixels of two fingers for one step of the wheel

/**
 * Fingers on a desktop: one presses, or drags; one that stays presses the second button; two turn the
 * wheel, or pan and pinch.
 */
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
	const fingers = useRef(new Map<number, Finger>());
	const stay = useRef<ReturnType<typeof setTimeout>>(undefined);
	const does = useRef<"" | "drag" | "two" | "done">("");
	const two = useRef({ spread: 1, scale: 1, x: 0, y: 0, rest: 0 });
	const point = (x: number, y: number, buttons: number) => hands && connection.point({ ...at(x, y), buttons });
	const middle = () => {
		const [a, b] = [...fingers.current.values()];
		if (!a || !b) return;
		return { x: (a.x + b.x) / 2, y: (a.y + b.y) / 2, spread: Math.hypot(a.x - b.x, a.y - b.y) };
	};
	return {
		down(e: PointerEvent) {
			e.currentTarget.setPointerCapture(e.pointerId);
			fingers.current.set(e.pointerId, { x: e.clientX, y: e.clientY, fromX: e.clientX, fromY: e.clientY });
			clearTimeout(stay.current);
			const m = middle();
			if (m) {
				if (does.current === "drag") point(m.x, m.y, 0);
				does.current = "two";
				two.current = { ...m, scale: scale * window.devicePixelRatio, rest: 0 };
				return;
			}
			does.current = "";
			const { clientX, clientY } = e;
			stay.current = setTimeout(() => {
				does.current = "done";
				point(clientX, clientY, 2);
				point(clientX, clientY, 0);
				navigator.vibrate?.(20);
			}, long);
		},
		move(e: PointerEvent) {
			const f = fingers.current.get(e.pointerId);
			if (!f) return;
			f.x = e.clientX;
			f.y = e.clientY;
			const m = middle();
			const t = two.current;
			if (m && does.current === "two") {
				const by = m.spread / Math.max(t.spread, 1);
				if (Math.abs(by - 1) > 0.08) setZoom(Math.min(Math.max(t.scale * by, 0.1), 8));
				const area = box.current;
				if (area && (area.scrollWidth > area.clientWidth || area.scrollHeight > area.clientHeight)) {
					area.scrollBy(t.x - m.x, t.y - m.y);
				} else if (hands && Math.abs(by - 1) < 0.08) {
					t.rest += t.y - m.y;
					const turns = Math.trunc(t.rest / step);
					t.rest -= turns * step;
					if (turns) connection.send({ wheel: { x: 0, y: turns } });
				}
				t.x = m.x;
				t.y = m.y;
				return;
			}
			if (does.current === "" && Math.hypot(f.x - f.fromX, f.y - f.fromY) > slack) {
				clearTimeout(stay.current);
				does.current = "drag";
				point(f.fromX, f.fromY, 1);
			}
			if (does.current === "drag") point(f.x, f.y, 1);
		},
		up(e: PointerEvent) {
			clearTimeout(stay.current);
			const f = fingers.current.get(e.pointerId);
			fingers.current.delete(e.pointerId);
			if (!f) return;
			if (does.current === "") {
				point(f.x, f.y, 0);
				point(f.x, f.y, 1);
				point(f.x, f.y, 0);
			} else if (does.current === "drag") point(f.x, f.y, 0);
			if (fingers.current.size === 0) does.current = "";
			else does.current = "done";
		},
		cancel(e: PointerEvent) {
			clearTimeout(stay.current);
			if (fingers.current.delete(e.pointerId) && does.current === "drag") connection.release();
			does.current = "";
		},
	};
}
