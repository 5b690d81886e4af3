import { FitAddon } from "@xterm/addon-fit";
import { Terminal } from "@xterm/xterm";
import { read } from "../api/queries";
import "@xterm/xterm/css/xterm.css";
import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Device, Schemas } from "../api/client";
import { useMay } from "../api/me";
import { useDark } from "../parts/theme";
import { openWindow, Pane } from "./Pane";
import { fontFamily, fontSize, look } from "./terminal";

const font = `${fontSize}px ${fontFamily}`;

type State = "connecting" | "open" | "away" | "ended";
type Order = { id: string; title: string; person?: string; program?: string };

/** How long a shell whose connection was lost is tried for; the device keeps it as long. */
const patience = 5 * 60_000;

/** Shells that are on their way to another window, and are not to end when they leave this one. */
const leaving = new Set<string>();

/** By a tab's id, the shell that it is joined to: another after one that ended. */
const joined = new Map<string, string>();

/** Shells at a device, any number of them, each behind a tab. */
export function ShellPane({ device, onClose }: { device: Device; onClose: () => void }) {
	const [params] = useSearchParams();
	const [all, setAll] = useState<Order[]>(() => {
		const moved = params.get("shell"); // from another window
		const order = { person: params.get("person") ?? undefined, program: params.get("program") ?? undefined };
		return [{ id: moved ?? crypto.randomUUID(), title: params.get("title") ?? "Shell 1", ...(moved ? order : {}) }];
	});
	const [shown, setShown] = useState(all[0]?.id);
	const [states, setStates] = useState<Record<string, State>>({});
	const count = useRef(1);
	const recordings = useMay("recordings.see");
	const add = (order: Partial<Order>) => {
		count.current++;
		const made = { id: crypto.randomUUID(), title: `Shell ${count.current}`, ...order };
		setAll((old) => [...old, made]);
		setShown(made.id);
	};
	const drop = (id: string) => {
		const rest = all.filter((o) => o.id !== id);
		if (rest.length === 0) return onClose();
		setAll(rest);
		if (shown === id) setShown(rest.at(-1)?.id);
	};
	/** Moves the shell that is shown to a window of its own: it goes on, and is joined there. */
	const away = () => {
		const one = all.find((o) => o.id === shown);
		if (!one) return;
		const { id, title, person, program } = one;
		leaving.add(id);
		openWindow(device.id, "shell", {
			shell: joined.get(id) ?? id,
			title,
			...(person && { person }),
			...(program && { program }),
		});
		drop(id);
	};
	const words = { connecting: "connecting…", open: "", away: "joining again…", ended: "ended" };
	return (
		<Pane title="Shell" onClose={onClose} onWindow={away} status={shown && words[states[shown] ?? "connecting"]}>
			<nav aria-label="Shells" className="flex items-center gap-0.5 border-line border-b px-2">
				{all.map((o) => (
					<span key={o.id} className={`flex items-center rounded-t ${o.id === shown ? "bg-heather-tint" : ""}`}>
						<button
							type="button"
							aria-current={o.id === shown ? "true" : undefined}
							title="Press twice to rename"
							className="min-h-6 px-2 text-sm"
							onClick={() => setShown(o.id)}
							onDoubleClick={() => {
								const title = window.prompt("Name of this shell", o.title)?.trim();
								if (title) setAll((old) => old.map((x) => (x.id === o.id ? { ...x, title } : x)));
							}}
						>
							{o.title}
							{o.person && <span className="text-faint"> as {o.person}</span>}
						</button>
						{all.length > 1 && (
							<button
								type="button"
								className="min-h-6 min-w-6 text-faint hover:text-word"
								aria-label={`End ${o.title}`}
								onClick={() => drop(o.id)}
							>
								×
							</button>
						)}
					</span>
				))}
				<NewShell device={device} onAdd={add} />
				{recordings && (
					<Link to={`/recordings?device=${device.id}`} className="link ml-auto text-sm">
						Recordings
					</Link>
				)}
			</nav>
			{all.map((o) => (
				<div key={o.id} className={o.id === shown ? "min-h-0 flex-1" : "hidden"}>
					<TerminalView
						device={device}
						order={o}
						shown={o.id === shown}
						setState={(state) => setStates((old) => ({ ...old, [o.id]: state }))}
					/>
				</div>
			))}
		</Pane>
	);
}

/** Opens another shell: as the agent or as a person, in one of the device's interpreters. */
function NewShell({ device, onAdd }: { device: Device; onAdd: (o: Partial<Order>) => void }) {
	const choices = useQuery({
		...read("/devices/{id}/shell/choices", { path: { id: device.id } }),
		enabled: device.online,
		staleTime: 60_000,
	}).data;
	return (
		<Menu>
			<MenuButton
				className="button-quiet min-h-6 min-w-7 justify-center px-1.5 py-0 text-sm"
				aria-label="Another shell"
			>
				+
			</MenuButton>
			<MenuItems anchor="bottom start" className="z-30 min-w-44 rounded-md border border-line bg-raised p-1 shadow-lg">
				{[
					...(choices?.programs ?? [undefined]).map((program) => ({
						label: program ?? "the usual shell",
						order: { program } as Partial<Order>,
					})),
					...(choices?.people ?? []).map((person) => ({ label: `as ${person}`, order: { person } as Partial<Order> })),
				].map(({ label, order }) => (
					<MenuItem key={label}>
						<button
							type="button"
							className="block w-full rounded px-2 py-1 text-left data-focus:bg-heather-tint"
							onClick={() => onAdd(order)}
						>
							{label}
						</button>
					</MenuItem>
				))}
			</MenuItems>
		</Menu>
	);
}

/** A terminal with one shell in it. */
function TerminalView({
	device,
	order,
	shown,
	setState,
}: {
	device: Device;
	order: Order;
	shown: boolean;
	setState: (s: State) => void;
}) {
	const box = useRef<HTMLDivElement>(null);
	const terminal = useRef<Terminal>(undefined);
	const dark = useDark();
	const [state, setOwn] = useState<State>("connecting");
	const tell = useRef(setState);
	tell.current = setState;
	const first = useRef(order);

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
			const shell = connect(device.id, device.name, first.current, term, (now) => {
				setOwn(now);
				tell.current(now);
			});
			const watch = new ResizeObserver(() => place.clientWidth > 0 && fit.fit());
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

	useEffect(() => {
		if (shown) terminal.current?.focus();
	}, [shown]);
	return <div ref={box} className="h-full overflow-hidden bg-page py-1 pl-2" data-shell={state} />;
}

/** How the service closes what somebody may no longer do (RFC 6455, 7.4.1: a policy was violated). */
const cutOff = 1008;

/**
 * Joins a terminal to a shell at the device. A shell whose connection is lost is joined again, with
 * what it printed meanwhile; when it has ended, Enter begins a new one.
 */
function connect(device: string, name: string, order: Order, term: Terminal, setState: (s: State) => void) {
	let socket: WebSocket | undefined;
	let over = false;
	let closed = false;
	let id = order.id;
	let read = 0; // bytes of all that the shell printed
	let lost = 0; // since when its connection is lost
	let told = ""; // why the service let go of it
	let timer: ReturnType<typeof setTimeout> | undefined;
	const encoder = new TextEncoder();
	const send = (e: Schemas["ShellEvent"]) => socket?.readyState === WebSocket.OPEN && socket.send(JSON.stringify(e));
	const say = (text: string) => term.write(`\r\n\x1b[35m${text}\x1b[0m\r\n`);
	const ended = (why: string) => {
		if (over || closed) return;
		over = true;
		setState("ended");
		say(`${why} Press Enter for a new shell.`);
	};
	const away = () => {
		if (over || closed) return;
		if (!lost) {
			lost = Date.now();
			setState("away");
			say(`The connection to ${name} was lost. The shell goes on there, and is joined again…`);
		}
		if (Date.now() - lost > patience) return ended(`The shell at ${name} was lost.`);
		timer = setTimeout(open, 1500);
	};
	const open = () => {
		if (closed) return;
		over = false;
		joined.set(order.id, id);
		const query = new URLSearchParams({
			columns: String(term.cols),
			rows: String(term.rows),
			shell: id,
			from: String(read),
		});
		if (order.person) query.set("person", order.person);
		if (order.program) query.set("program", order.program);
		const at = new URL(`/api/v1/devices/${device}/shell?${query}`, location.href);
		at.protocol = at.protocol.replace("http", "ws");
		const mine = new WebSocket(at);
		socket = mine;
		mine.binaryType = "arraybuffer";
		mine.onmessage = ({ data }) => {
			if (data instanceof ArrayBuffer) {
				read += data.byteLength;
				term.write(new Uint8Array(data));
				return;
			}
			const e: Schemas["ShellEvent"] = JSON.parse(data);
			if (e.begin !== undefined) {
				if (lost && e.begin === 0 && read > 0) say("The device was started anew: this is a new shell.");
				read = e.begin;
				lost = 0;
				setState("open");
				send({ resize: { columns: term.cols, rows: term.rows } });
			} else if (e.exit !== undefined) ended(`The shell ended with status ${e.exit}.`);
			else if (e.error) told = e.error;
		};
		mine.onclose = ({ code }) => {
			if (socket !== mine) return;
			if (code === cutOff) ended(told || "The shell was ended.");
			else away();
		};
	};
	term.onData((text) => {
		if (over) {
			if (!text.includes("\r")) return;
			id = crypto.randomUUID();
			read = 0;
			lost = 0;
			setState("connecting");
			open();
		} else if (socket?.readyState === WebSocket.OPEN) socket.send(encoder.encode(text));
	});
	term.onBinary((text) => socket?.send(Uint8Array.from(text, (c) => c.charCodeAt(0))));
	term.onResize(({ cols, rows }) => send({ resize: { columns: cols, rows } }));
	// A browser may keep a page that was left, and with it a shell that nobody sees.
	const leave = () => socket?.close();
	window.addEventListener("pagehide", leave);
	setState("connecting");
	open();
	return {
		close() {
			window.removeEventListener("pagehide", leave);
			closed = true;
			clearTimeout(timer);
			if (leaving.delete(order.id)) socket?.close();
			else socket?.close(1000); // what is closed so, ends
		},
	};
}
