import { sha256 } from "@noble/hashes/sha2.js";
import { useSyncExternalStore } from "react";
import { sendBytes } from "../api/bytes";
import { answer, api, ProblemError } from "../api/client";

/** A file on its way to a device. It goes on while other pages are looked at. */
export type Transfer = {
	key: number;
	device: string;
	deviceName: string;
	path: string;
	size: number;
	done: number;
	speed: number; // bytes a second, of late
	state: "waiting" | "sending" | "paused" | "done" | "failed";
	problem?: ProblemError;
};

type Entry = Transfer & { file: File; upload?: string; stop?: AbortController; replace: boolean; then: () => void };

const sideBySide = 2;
const patience = 120_000; // ms without any progress after which a transfer is given up

let all: Entry[] = [];
let shown: Transfer[] = [];
let last = 0;
const readers = new Set<() => void>();

function tell() {
	shown = all.map(({ file: _f, stop: _s, then: _t, upload: _u, replace: _r, ...rest }) => rest);
	for (const read of readers) read();
}

/** The transfers of this page. */
export const list = () => shown;

/** Has a function called whenever they change, until what it returns is called. */
export function listen(read: () => void) {
	readers.add(read);
	return () => readers.delete(read);
}

export function useTransfers() {
	return useSyncExternalStore(listen, list);
}

/** Sends a file to a device. then is called once it stands there. */
export function send(
	device: { id: string; name: string },
	path: string,
	file: File,
	then: () => void,
	replace = false,
) {
	last++;
	all = [
		...all,
		{
			key: last,
			device: device.id,
			deviceName: device.name,
			path,
			size: file.size,
			done: 0,
			speed: 0,
			state: "waiting",
			file,
			then,
			replace,
		},
	];
	tell();
	next();
}

export function pause(key: number) {
	change(key, { state: "paused", speed: 0 })?.stop?.abort();
	next();
}

export function resume(key: number, replace = false) {
	const t = change(key, { state: "waiting", problem: undefined });
	if (t && replace) t.replace = true;
	next();
}

/** Takes a transfer off the list, and gives it up where it is not at its end. */
export function drop(key: number) {
	const t = all.find((o) => o.key === key);
	t?.stop?.abort();
	if (t?.upload && t.state !== "done") forget(t);
	all = all.filter((o) => o.key !== key);
	tell();
	next();
}

function forget(t: Entry) {
	localStorage.removeItem(name(t));
	if (t.upload)
		api
			.DELETE("/devices/{id}/uploads/{upload}", { params: { path: { id: t.device, upload: t.upload } } })
			.catch(() => {});
}

function change(key: number, to: Partial<Entry>) {
	const t = all.find((o) => o.key === key);
	if (t) Object.assign(t, to);
	tell();
	return t;
}

function next() {
	const free = sideBySide - all.filter((t) => t.state === "sending").length;
	for (const t of all.filter((o) => o.state === "waiting").slice(0, Math.max(free, 0))) start(t);
}

/** By which an upload is found again after the browser was closed: the same file to the same place. */
function name(t: Entry) {
	return `moorwatch upload ${t.device} ${t.path} ${t.file.size} ${t.file.lastModified}`;
}

async function start(t: Entry) {
	t.state = "sending";
	t.stop = new AbortController();
	tell();
	try {
		await push(t, t.stop.signal);
		localStorage.removeItem(name(t));
		change(t.key, { state: "done", done: t.size, speed: 0 });
		t.then();
	} catch (problem) {
		if (!t.stop.signal.aborted)
			change(t.key, {
				state: "failed",
				speed: 0,
				problem: problem instanceof ProblemError ? problem : new ProblemError({ status: 0, title: String(problem) }),
			});
	}
	next();
}

async function push(t: Entry, signal: AbortSignal) {
	const sum = sha256.create();
	let summed = 0;
	const catchUp = async (to: number) => {
		if (to < summed)
			throw new ProblemError({ status: 0, title: "The device has less than it had.", detail: "Send the file again." });
		while (summed < to) {
			const end = Math.min(summed + 4_194_304, to);
			sum.update(new Uint8Array(await t.file.slice(summed, end).arrayBuffer()));
			summed = end;
		}
	};
	t.upload ??= localStorage.getItem(name(t)) ?? undefined;
	const path = { id: t.device, upload: t.upload ?? "" };
	if (!t.upload) {
		const begun = await answer(
			api.POST("/devices/{id}/uploads", {
				params: { path: { id: t.device } },
				body: {
					path: t.path,
					size: t.file.size,
					modified: new Date(t.file.lastModified).toISOString(),
					replace: t.replace,
					folders: true,
				},
				signal,
			}),
		);
		t.upload = begun.id;
		path.upload = begun.id;
		localStorage.setItem(name(t), begun.id);
	}
	let moved = Date.now();
	let piece = 262_144;
	for (let pausing = 500; ; ) {
		try {
			const state = await answer(api.GET("/devices/{id}/uploads/{upload}", { params: { path }, signal }));
			for (let at = state.offset; at < t.file.size; ) {
				await catchUp(at);
				const end = Math.min(at + piece, t.file.size);
				const [from, began] = [at, performance.now()];
				at = (
					await sendBytes<{ offset: number }>(
						`/devices/${t.device}/uploads/${t.upload}/content?offset=${from}`,
						t.file.slice(from, end),
						signal,
					)
				).offset;
				const seconds = (performance.now() - began) / 1000;
				// Pieces of about a second: what is shown moves, and a slow link is not asked for much at once.
				piece = Math.min(Math.max(Math.round(piece / Math.max(seconds, 0.05)), 65_536), 16_777_216);
				moved = Date.now();
				pausing = 500;
				change(t.key, { done: at, speed: t.speed * 0.6 + (0.4 * (at - from)) / Math.max(seconds, 0.001) });
			}
			await catchUp(t.file.size);
			const digest = Array.from(sum.clone().digest(), (b) => b.toString(16).padStart(2, "0")).join("");
			await answer(
				api.POST("/devices/{id}/uploads/{upload}/end", { params: { path }, body: { sha256: digest }, signal }),
			);
			return;
		} catch (problem) {
			const status = problem instanceof ProblemError ? problem.problem.status : 0;
			if (status === 404 && t.upload) {
				// It was given up at the device: from the beginning, once.
				localStorage.removeItem(name(t));
				t.upload = undefined;
				throw problem;
			}
			if (signal.aborted || ![0, 502, 503, 504].includes(status) || Date.now() - moved > patience) throw problem;
			change(t.key, { speed: 0 });
			await new Promise((go) => setTimeout(go, pausing));
			pausing = Math.min(pausing * 2, 5000);
		}
	}
}
