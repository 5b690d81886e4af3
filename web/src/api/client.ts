import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Device = Schemas["Device"];
export type Problem = Schemas["Problem"];

let csrf = "";

/** Keeps the token that every change must carry. */
export function rememberCsrf(token: string) {
	csrf = token;
}

/** That token, for calls which the generated client cannot make. */
export function currentCsrf() {
	return csrf;
}

export const api = createClient<paths>({ baseUrl: "/api/v1" });

/** Asks the person to prove who they are, and tells whether they did. */
let prover: (() => Promise<boolean>) | undefined;

/** Sets who asks for a proof; what asks for one meanwhile fails where there is nobody. */
export function setProver(ask: typeof prover) {
	prover = ask;
}

let proving: Promise<boolean> | undefined;

/** How many proofs were given so far: a request that was sent before the last one need not ask for another. */
let proofs = 0;
export const proofsGiven = () => proofs;

/** Asks once, however many requests wait for it. */
async function askProof() {
	proving ??= prover?.()
		.then((given) => {
			if (given) proofs++;
			return given;
		})
		.finally(() => {
			proving = undefined;
		});
	return (await proving) ?? false;
}

/** Requests as they can be sent again, once their person has proved who they are. */
const again = new WeakMap<Request, { request: Request; proofs: number }>();

api.use({
	onRequest({ request }) {
		if (request.method !== "GET") request.headers.set("X-Moorwatch-Csrf", csrf);
		again.set(request, { request: request.method === "GET" ? request : request.clone(), proofs });
		return request;
	},
	async onResponse({ request, response }) {
		const kept = again.get(request);
		return kept ? proven(response, kept.proofs, () => fetch(kept.request)) : response;
	},
});

/**
 * The answer of a request, sent again once its person has proved who they are where the service asks for that. before
 * is how many proofs were given when it was sent.
 */
export async function proven(response: Response, before: number, send: () => Promise<Response>): Promise<Response> {
	if (response.status !== 403 || !prover) return response;
	const problem = asProblem(
		await response
			.clone()
			.json()
			.catch(() => undefined),
		403,
	);
	if (problem.type !== "urn:moorwatch:proof-needed") return response;
	return proofs > before || (await askProof()) ? send() : response;
}

/** What the service refused, as something that can be thrown. */
export class ProblemError extends Error {
	readonly problem: Problem;
	constructor(problem: Problem) {
		super(problem.title);
		this.problem = problem;
	}
}

/** The answer of a call, or its problem thrown. A service that cannot be reached is a problem too. */
export async function answer<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
	const { data, error, response } = await call.catch(() => {
		throw new ProblemError({
			status: 0,
			title: "The service cannot be reached.",
			detail: "Check this computer's network. What was on this page is kept; it will be read again by itself.",
		});
	});
	if (response.ok) return data as T;
	throw new ProblemError(asProblem(error, response.status));
}

/** Reads a problem document, or makes one where something else answered. */
export function asProblem(body: unknown, status: number): Problem {
	if (body && typeof body === "object" && "title" in body) return body as Problem;
	return { status, title: "The service failed.", detail: `It answered ${status}. Try again in a moment.` };
}
