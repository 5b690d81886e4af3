/// <reference lib="webworker" />
import type { Schemas } from "../api/client";
import { Decoder } from "./decode";

/**
 * Holds the connection to a desktop and draws it, apart from the page, so that neither waits for the
 * other. What it is told and tells is in the types below.
 */

export type Order =
	| { canvas: OffscreenCanvas }
	| { connect: string } // an address
	| { input: Schemas["ScreenInput"] }
	| { leave: true }
	| { picture: number } // a PNG of what is shown, answered under the same number
	| { watch: boolean }; // whether to tell of every update

export type Report =
	| { open: true }
	| { closed: { code: number } }
	| { event: Schemas["ScreenEvent"] }
	| { size: { width: number; height: number } }
	| { drawn: { number: number; bytes: number; at: number } }
	| { broken: string }
	| { picture: { number: number; png: Blob } };

const page = self as DedicatedWorkerGlobalScope;
const tell = (r: Report) => page.postMessage(r);

let surface: OffscreenCanvasRenderingContext2D | null = null;
let decoder: Decoder | undefined;
let socket: WebSocket | undefined;
let watched = false;

function send(input: Schemas["ScreenInput"]) {
	if (socket?.readyState === WebSocket.OPEN) socket.send(JSON.stringify(input));
}

function connect(address: string) {
	socket?.close();
	const mine = new WebSocket(address);
	socket = mine;
	decoder = surface ? new Decoder(surface) : undefined;
	mine.binaryType = "arraybuffer";
	let turn = Promise.resolve();
	mine.onopen = () => tell({ open: true });
	mine.onclose = ({ code }) => {
		if (socket === mine) tell({ closed: { code } });
	};
	mine.onmessage = ({ data }) => {
		if (typeof data === "string") {
			tell({ event: JSON.parse(data) });
			return;
		}
		turn = turn.then(() => (socket === mine ? show(new Uint8Array(data)) : undefined));
	};
}

async function show(update: Uint8Array) {
	if (!surface || !decoder) return;
	const { width, height } = surface.canvas;
	try {
		const number = await decoder.draw(update);
		if (surface.canvas.width !== width || surface.canvas.height !== height)
			tell({ size: { width: surface.canvas.width, height: surface.canvas.height } });
		send({ drawn: number });
		if (watched) tell({ drawn: { number, bytes: update.length, at: performance.timeOrigin + performance.now() } });
	} catch (e) {
		tell({ broken: String(e) });
		send({ again: true });
	}
}

page.onmessage = async ({ data }: MessageEvent<Order>) => {
	if ("canvas" in data) surface = data.canvas.getContext("2d", { alpha: false });
	else if ("connect" in data) connect(data.connect);
	else if ("input" in data) send(data.input);
	else if ("leave" in data) {
		const mine = socket;
		socket = undefined;
		mine?.close(1000);
	} else if ("watch" in data) watched = data.watch;
	else if ("picture" in data && surface)
		tell({ picture: { number: data.picture, png: await surface.canvas.convertToBlob({ type: "image/png" }) } });
};
