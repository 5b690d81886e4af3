import { FitAddon } from "@xterm/addon-fit";
import { type ITheme, Terminal } from "@xterm/xterm";
import "@xterm/xterm/css/xterm.css";
import { useEffect, useRef, useState } from "react";
import type { Device, Schemas } from "../api/client";
import { colour, useDark } from "../theme";
import { Pane } from "./Pane";

const fontFamily = "'Source Code Pro Variable', monospace";
const fontSize = 13.5;
const font = `${fontSize}px ${fontFamily}`;

type State = "connecting" | "open" | "ended";

/** A terminal with a shell at a device. */
export function ShellPane({ device, onClose }: { device: Device; onClose: () => void }) {
	const box = useRef<HTMLDivElement>(null);
	const terminal = useRef<Terminal>(undefined);
	const dark = useDark();
	const [state, setState] = useState<State>("connecting");

	useEffect(() => {
		const place = box.current;
		if (!place) return;
		let close: (() => void) | undefined;
		let left = false;
		// The terminal measures its font once, so the font must be there before it is opened.
		document.fonts.load(font).finally(() => {
			if (!left) close = open(place);
		});
		return () => {
			left = true;
			close?.();
		};

		function open(place: HTMLElement) {
			const term = new Terminal({ fontFamily, fontSize, cursorBlink: true, scrollback: 5000, theme: look() });
			const fit = new FitAddon();
			term.loadAddon(fit);
			term.open(place);
			fit.fit();
			terminal.current = term;
			term.focus();
			// Ctrl+Shift+C and Ctrl+Shift+V copy and paste; Ctrl+C alone belongs to the shell.
			term.attachCustomKeyEventHandler((e) => {
				if (e.type !== "keydown" || !e.ctrlKey || !e.shiftKey) return true;
				if (e.code === "KeyC" && term.hasSelection()) {
					navigator.clipboard.writeText(term.getSelection());
					e.preventDefault();
					return false;
				}
				return e.code !== "KeyV"; // the browser pastes, and the terminal brackets what it pastes
			});
			const shell = connect(device.id, device.name, term, setState);
			const watch = new ResizeObserver(() => fit.fit());
			watch.observe(place);
			return () => {
				watch.disconnect();
				shell.close();
				term.dispose();
				terminal.current = undefined;
			};
		}
	}, [device.id, device.name]);

	useEffect(() => {
		if (terminal.current) terminal.current.options.theme = look();
	}, [dark]);

	const words = { connecting: "connecting…", open: "", ended: "ended" };
	return (
		<Pane title="Shell" onClose={onClose} status={words[state]}>
			<div ref={box} className="h-full overflow-hidden bg-page py-1 pl-2" data-shell={state} />
		</Pane>
	);
}

/**
 * Joins a terminal to a shell at the device. When the shell is lost it says so, and Enter begins
 * a new one.
 */
function connect(id: string, name: string, term: Terminal, setState: (s: State) => void) {
	let socket: WebSocket | undefined;
	let over = false;
	const encoder = new TextEncoder();
	const send = (e: Schemas["ShellEvent"]) => socket?.readyState === WebSocket.OPEN && socket.send(JSON.stringify(e));
	const ended = (why: string) => {
		if (over) return;
		over = true;
		setState("ended");
		term.write(`\r\n\x1b[35m${why} Press Enter for a new shell.\x1b[0m\r\n`);
	};
	const open = () => {
		over = false;
		setState("connecting");
		const at = new URL(`/api/v1/devices/${id}/shell?columns=${term.cols}&rows=${term.rows}`, location.href);
		at.protocol = at.protocol.replace("http", "ws");
		const mine = new WebSocket(at);
		socket = mine;
		mine.binaryType = "arraybuffer";
		mine.onopen = () => setState("open");
		mine.onmessage = ({ data }) => {
			if (data instanceof ArrayBuffer) {
				term.write(new Uint8Array(data));
				return;
			}
			const e: Schemas["ShellEvent"] = JSON.parse(data);
			if (e.error) ended(e.error);
			else if (e.exit !== undefined) ended(`The shell ended with status ${e.exit}.`);
		};
		mine.onclose = () => {
			if (socket === mine) ended(`The connection to the shell at ${name} was lost.`);
		};
	};
	term.onData((text) => {
		if (over) {
			if (text.includes("\r")) open();
		} else if (socket?.readyState === WebSocket.OPEN) socket.send(encoder.encode(text));
	});
	term.onBinary((text) => socket?.send(Uint8Array.from(text, (c) => c.charCodeAt(0))));
	term.onResize(({ cols, rows }) => send({ resize: { columns: cols, rows } }));
	// A browser may keep a page that was left, and with it a shell that nobody sees.
	const leave = () => socket?.close();
	window.addEventListener("pagehide", leave);
	open();
	return {
		close() {
			window.removeEventListener("pagehide", leave);
			over = true;
			const last = socket;
			socket = undefined;
			last?.close();
		},
	};
}

/** The terminal's colours, from the theme. */
function look(): ITheme {
	return {
		background: colour("page"),
		foreground: colour("word"),
		cursor: colour("heather"),
		selectionBackground: colour("heather-tint"),
		black: colour("panel"),
		red: colour("rowan"),
		green: colour("moss"),
		yellow: colour("gorse"),
		blue: colour("mist"),
		magenta: colour("heather"),
		cyan: colour("mist"),
		white: colour("word"),
		brightBlack: colour("faint"),
		brightRed: colour("rowan"),
		brightGreen: colour("moss"),
		brightYellow: colour("gorse-fill"),
		brightBlue: colour("mist"),
		brightMagenta: colour("heather-deep"),
		brightCyan: colour("mist"),
		brightWhite: colour("word"),
	};
}
