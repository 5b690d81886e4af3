import {
	type KeyboardEvent,
	type PointerEvent,
	type RefObject,
	useCallback,
	useEffect,
	useLayoutEffect,
	useRef,
	useState,
} from "react";
import { readClipboard } from "./clipboard";
import type { Connection } from "./connection";
import { type Showing, useMarks } from "./marks";
import { useTouch } from "./touch";
import type { Seen } from "./useScreen";

/** How large a picture is shown: as it fits, or so many of this screen's pixels for each of its own. */
export type Zoom = "fit" | number;

/** The picture of a desktop, and the hands on it. */
export function View({
	device,
	connection,
	seen,
	zoom,
	setZoom,
	byPlace,
	hands,
	showing,
	complain,
	forget,
	box,
}: {
	device: string;
	connection: Connection;
	seen: Seen;
	zoom: Zoom;
	setZoom: (z: Zoom) => void;
	byPlace: boolean; // keys are told by where they are
	hands: boolean; // the viewer works on it, and does not only look
	showing: Showing; // what the pointer does on the person's screen, when it does not work there
	complain: (text: string) => void;
	forget: () => void; // where another hand left the pointer
	box: RefObject<HTMLDivElement | null>;
}) {
	const place = useRef<HTMLDivElement>(null);
	const [room, setRoom] = useState({ width: 1, height: 1 });
	const { size, cursor, pointer } = seen;

	useEffect(() => {
		const host = place.current;
		connection.canvas.className = "block size-full";
		host?.append(connection.canvas);
		return () => connection.canvas.remove();
	}, [connection]);

	useLayoutEffect(() => {
		const element = box.current;
		if (!element) return;
		const watch = new ResizeObserver(() => setRoom({ width: element.clientWidth, height: element.clientHeight }));
		watch.observe(element);
		return () => watch.disconnect();
	}, [box]);

	const fit = size ? Math.min(room.width / size.width, room.height / size.height) : 1;
	const scale = zoom === "fit" ? fit : zoom / window.devicePixelRatio;
	const at = useCallback(
		(x: number, y: number) => {
			const r = connection.canvas.getBoundingClientRect();
			const [w, h] = [size?.width ?? 1, size?.height ?? 1];
			return {
				x: Math.min(Math.max(Math.floor(((x - r.left) / r.width) * w), 0), w - 1),
				y: Math.min(Math.max(Math.floor(((y - r.top) / r.height) * h), 0), h - 1),
			};
		},
		[connection, size],
	);
	const touch = useTouch({ connection, at, hands, scale, setZoom, box });
	const marks = useMarks({ connection, at, showing });

	// No more pixels are sent than are shown, and none while it stands out of sight.
	useEffect(() => {
		const settled = setTimeout(() => {
			const width = Math.round(room.width * window.devicePixelRatio);
			connection.stands(room.width > 0 && room.height > 0, zoom === "fit" ? width : 0);
		}, 300);
		return () => clearTimeout(settled);
	}, [connection, room, zoom]);

	// Moves are sent once a frame: the latest is the only one that matters.
	const waiting = useRef<{ x: number; y: number; buttons: number }>(undefined);
	const move = (e: PointerEvent) => {
		if (showing) return marks.move(e);
		if (e.pointerType === "touch") return touch.move(e);
		if (!hands) return;
		const first = !waiting.current;
		waiting.current = { ...at(e.clientX, e.clientY), buttons: e.buttons & 31 };
		if (first)
			requestAnimationFrame(() => {
				if (waiting.current) connection.point(waiting.current);
				waiting.current = undefined;
			});
	};
	const press = (e: PointerEvent) => {
		box.current?.focus({ preventScroll: true });
		if (showing) return marks.press(e);
		if (e.pointerType === "touch") return touch.down(e);
		e.preventDefault();
		if (!hands) return;
		if (e.type === "pointerdown") e.currentTarget.setPointerCapture(e.pointerId);
		waiting.current = undefined;
		forget();
		connection.point({ ...at(e.clientX, e.clientY), buttons: e.buttons & 31 });
	};

	const key = (e: KeyboardEvent, down: boolean) => {
		if (e.key === "Escape" && e.shiftKey) {
			if (down) {
				connection.release();
				box.current?.closest("section")?.querySelector<HTMLElement>("[data-bar] button")?.focus();
			}
			return;
		}
		e.preventDefault();
		e.stopPropagation();
		if (!hands || e.repeat || e.nativeEvent.isComposing) return; // the device repeats by itself
		const send = () => connection.key({ key: e.key, code: e.code, down, by_place: byPlace });
		if (down && e.code === "KeyV" && (e.ctrlKey || e.metaKey) && seen.begin?.clipboard) {
			readClipboard()
				.then((clip) => clip && connection.send({ clip }))
				.catch(() => complain("Your browser keeps its clipboard: allow this page to read it, to paste."))
				.finally(send);
			return;
		}
		send();
	};

	// The wheel is turned by steps; what is less than one is kept for the next.
	const turned = useRef({ x: 0, y: 0 });
	useEffect(() => {
		const element = place.current;
		const turn = (e: WheelEvent) => {
			if (e.ctrlKey) {
				e.preventDefault();
				setZoom(Math.min(Math.max(scale * window.devicePixelRatio * (e.deltaY < 0 ? 1.15 : 1 / 1.15), 0.1), 8));
				return;
			}
			if (!hands) return;
			e.preventDefault();
			const unit = e.deltaMode === WheelEvent.DOM_DELTA_LINE ? 3 : e.deltaMode === WheelEvent.DOM_DELTA_PAGE ? 1 : 100;
			const t = turned.current;
			t.x += e.deltaX / unit;
			t.y += e.deltaY / unit;
			const [x, y] = [Math.trunc(t.x), Math.trunc(t.y)];
			t.x -= x;
			t.y -= y;
			if (x || y) connection.send({ wheel: { x, y } });
		};
		element?.addEventListener("wheel", turn, { passive: false });
		return () => element?.removeEventListener("wheel", turn);
	}, [connection, hands, scale, setZoom]);

	const shape = cursor && `data:image/png;base64,${cursor.png}`;
	return (
		<div
			ref={box}
			role="application"
			// biome-ignore lint/a11y/noNoninteractiveTabindex: a desktop is worked on with keys
			tabIndex={0}
			aria-label={`Screen of ${device}. Shift+Escape leaves it.`}
			className="relative grid min-h-0 flex-1 touch-none place-items-center overflow-auto bg-black/90 outline-offset-[-2px]"
			onKeyDown={(e) => key(e, true)}
			onKeyUp={(e) => key(e, false)}
			onBlur={() => connection.release()}
			onContextMenu={(e) => e.preventDefault()}
		>
			<div
				ref={place}
				className="relative"
				style={{
					width: size ? size.width * scale : "100%",
					height: size ? size.height * scale : "100%",
					cursor: showing
						? "crosshair"
						: hands && cursor
							? `url(${shape}) ${cursor.x} ${cursor.y}, default`
							: undefined,
					imageRendering: scale * window.devicePixelRatio >= 2 ? "pixelated" : undefined,
				}}
				onPointerMove={move}
				onPointerDown={press}
				onPointerUp={(e) => (e.pointerType === "touch" && !showing ? touch.up(e) : press(e))}
				onPointerCancel={touch.cancel}
			>
				{marks.drawn}
				{pointer && size && shape && (
					<img
						src={shape}
						alt=""
						className="pointer-events-none absolute max-w-none"
						style={{ left: pointer.x * scale - (cursor?.x ?? 0), top: pointer.y * scale - (cursor?.y ?? 0) }}
					/>
				)}
			</div>
		</div>
	);
}
