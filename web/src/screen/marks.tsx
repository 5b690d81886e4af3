import { type PointerEvent, useRef, useState } from "react";
import type { Schemas } from "../api/client";
import type { Connection } from "./connection";

/** What the pointer does on the person's screen: nothing, or pointing, drawing and writing there. */
export type Showing = "" | "point" | "line" | "note";

const pointEvery = 60; // ms
const mostPoints = 900;

type Point = Schemas["ScreenPoint"];

/** Shows things by hand on the person's own screen. They come back with its picture. */
export function useMarks({
	connection,
	at,
	showing,
}: {
	connection: Connection;
	at: (x: number, y: number) => Point;
	showing: Showing;
}) {
	const last = useRef(0);
	const line = useRef<Point[]>([]);
	const [note, setNote] = useState<{ left: number; top: number; at: Point }>();
	const send = (kind: "point" | "line" | "note", points: Point[], text?: string) =>
		connection.send({ mark: { kind, points, text } });
	const finish = () => {
		if (line.current.length > 1) send("line", line.current);
		line.current = [];
	};
	return {
		move(e: PointerEvent) {
			const p = at(e.clientX, e.clientY);
			if (showing === "point" && e.timeStamp - last.current > pointEvery) {
				last.current = e.timeStamp;
				send("point", [p]);
			}
			if (showing !== "line" || line.current.length === 0) return;
			line.current.push(p);
			// What is drawn so far is shown while it is drawn.
			if (e.timeStamp - last.current > 4 * pointEvery || line.current.length > mostPoints) {
				last.current = e.timeStamp;
				send("line", line.current);
				line.current = [p];
			}
		},
		press(e: PointerEvent) {
			e.preventDefault();
			const p = at(e.clientX, e.clientY);
			if (e.type !== "pointerdown") return finish();
			e.currentTarget.setPointerCapture(e.pointerId);
			if (showing === "point") send("point", [p]);
			if (showing === "line") line.current = [p];
			if (showing === "note") {
				const box = e.currentTarget.getBoundingClientRect();
				setNote({ left: e.clientX - box.left, top: e.clientY - box.top, at: p });
			}
		},
		drawn: showing === "note" && note && (
			<form
				className="absolute z-10 flex gap-1 rounded-md border border-line bg-raised p-1 shadow-lg"
				style={{ left: note.left, top: note.top }}
				onPointerDown={(e) => e.stopPropagation()}
				onKeyDown={(e) => {
					e.stopPropagation();
					if (e.key === "Escape") setNote(undefined);
				}}
				onKeyUp={(e) => e.stopPropagation()}
				onSubmit={(e) => {
					e.preventDefault();
					const text = new FormData(e.currentTarget).get("text");
					if (typeof text === "string" && text.trim()) send("note", [note.at], text.trim());
					setNote(undefined);
				}}
			>
				<input
					name="text"
					className="field w-56 py-1"
					aria-label="Note on the screen"
					maxLength={400}
					ref={(e) => e?.focus()}
				/>
				<button type="submit" className="button">
					Show
				</button>
			</form>
		),
	};
}
