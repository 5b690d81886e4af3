import { asProblem, ProblemError, type Schemas } from "../api/client";

/**
 * Posts to the service and hands on the objects of its answer, one a line, as they come. It stands
 * beside the generated client because that does not read streams.
 */
async function lines<T>(path: string, csrf: string, body: unknown, signal: AbortSignal, onEvent: (e: T) => void) {
	const answer = await fetch(`/api/v1${path}`, {
		method: "POST",
		headers: { "Content-Type": "application/json", "X-Moorwatch-Csrf": csrf },
		body: JSON.stringify(body),
		signal,
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
		for (const text of parts) if (text) onEvent(JSON.parse(text));
	}
}

/** Runs a command at a device. Ending the signal ends the command at the device. */
export function run(
	id: string,
	csrf: string,
	body: Schemas["Command"],
	signal: AbortSignal,
	onEvent: (e: Schemas["CommandEvent"]) => void,
) {
	return lines(`/devices/${id}/commands`, csrf, body, signal, onEvent);
}

/** Puts a question to many devices. Ending the signal ends the asking. */
export function sweep(
	csrf: string,
	body: Schemas["Sweep"],
	signal: AbortSignal,
	onEvent: (e: Schemas["SweepEvent"]) => void,
) {
	return lines("/sweeps", csrf, body, signal, onEvent);
}

/** The bytes of a base64 text. */
export function unpack(base64: string) {
	return Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
}
