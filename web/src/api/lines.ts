import { asProblem, currentCsrf, ProblemError, proofsGiven, proven, type Schemas } from "./client";

/**
 * Calls the service and hands on the objects of its answer, one a line, as they come. It stands
 * beside the generated client because that does not read streams. A body makes it a change.
 */
export async function lines<T>(path: string, signal: AbortSignal, onEvent: (e: T) => void, body?: unknown) {
	const send = () =>
		fetch(`/api/v1${path}`, {
			method: body === undefined ? "GET" : "POST",
			headers: body === undefined ? {} : { "Content-Type": "application/json", "X-Moorwatch-Csrf": currentCsrf() },
			body: body === undefined ? undefined : JSON.stringify(body),
			signal,
		});
	const before = proofsGiven();
	const answer = await send()
		.then((response) => proven(response, before, send))
		.catch((error) => {
			if (signal.aborted) throw error;
			throw new ProblemError({
				status: 0,
				title: "The service cannot be reached.",
				detail: "Check this computer's network, and try again.",
			});
		});
	if (!answer.ok || !answer.body)
		throw new ProblemError(asProblem(await answer.json().catch(() => null), answer.status));
	const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
	let rest = "";
	for (;;) {
		const { done, value } = await reader.read();
		if (done) return;
		const parts = (rest + value).split("\n");
		rest = parts.pop() ?? "";
		for (const text of parts) {
			if (!text) continue;
			const event = JSON.parse(text);
			// A line that is an error alone ends a stream that broke.
			if (event.error && Object.keys(event).length === 1)
				throw new ProblemError({ status: 0, title: "It ended early.", detail: event.error });
			onEvent(event);
		}
	}
}

/** Runs a command at a device. Ending the signal ends the command at the device. */
export function run(
	id: string,
	body: Schemas["Command"],
	signal: AbortSignal,
	onEvent: (e: Schemas["CommandEvent"]) => void,
) {
	return lines(`/devices/${id}/commands`, signal, onEvent, body);
}

/** Puts a question to many devices. Ending the signal ends the asking. */
export function sweep(body: Schemas["Sweep"], signal: AbortSignal, onEvent: (e: Schemas["SweepEvent"]) => void) {
	return lines("/sweeps", signal, onEvent, body);
}

/** The bytes of a base64 text. */
export function unpack(base64: string) {
	return Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
}

/** Bytes as a base64 text. */
export function pack(bytes: Uint8Array) {
	let text = "";
	for (let at = 0; at < bytes.length; at += 0x8000) text += String.fromCharCode(...bytes.subarray(at, at + 0x8000));
	return btoa(text);
}
