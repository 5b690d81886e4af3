import { asProblem, currentCsrf, ProblemError } from "./client";

/** Sends bytes to a path below /api/v1. The generated client sends JSON alone. */
export async function sendBytes<T>(path: string, bytes: Blob, signal?: AbortSignal): Promise<T> {
	const reply = await fetch(`/api/v1${path}`, {
		method: "PUT",
		headers: { "Content-Type": "application/octet-stream", "X-Moorwatch-Csrf": currentCsrf() },
		body: bytes,
		signal,
	}).catch(() => {
		throw new ProblemError({ status: 0, title: "The service cannot be reached." });
	});
	const body = await reply.json().catch(() => null);
	if (!reply.ok) throw new ProblemError(asProblem(body, reply.status));
	return body;
}
