import { asProblem, ProblemError, type Schemas } from "../api/client";

/**
 * Runs a command at a device and hands on its events as they come. Ending the signal ends the
 * command at the device. It stands beside the generated client because that does not read streams.
 */
export async function run(
	id: string,
	csrf: string,
	body: Schemas["Command"],
	signal: AbortSignal,
	onEvent: (e: Schemas["CommandEvent"]) => void,
) {
	const answer = await fetch(`/api/v1/devices/${id}/commands`, {
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
		const lines = (rest + value).split("\n");
		rest = lines.pop() ?? "";
		for (const text of lines) if (text) onEvent(JSON.parse(text));
	}
}

/** The bytes of a base64 text. */
export function unpack(base64: string) {
	return Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
}
