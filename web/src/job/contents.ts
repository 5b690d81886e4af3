import { sha256 } from "@noble/hashes/sha2.js";
import { sendBytes } from "../api/bytes";
import { answer, api, type Schemas } from "../api/client";

/** The digest of a file as hexadecimal digits, read in pieces. */
async function digestOf(file: File, tell: (share: number) => void, signal: AbortSignal) {
	const sum = sha256.create();
	const piece = 4_194_304;
	for (let at = 0; at < file.size && !signal.aborted; at += piece) {
		sum.update(new Uint8Array(await file.slice(at, at + piece).arrayBuffer()));
		tell(Math.min(at + piece, file.size) / file.size);
	}
	signal.throwIfAborted();
	return Array.from(sum.digest(), (b) => b.toString(16).padStart(2, "0")).join("");
}

/** Sends a file to the content store, going on where it stands. tell is given how far it is, 0 to 1. */
export async function store(file: File, tell: (what: string, share: number) => void, signal: AbortSignal) {
	const digest = await digestOf(file, (share) => tell("reading", share), signal);
	let content: Schemas["Content"] = await answer(
		api.POST("/contents", { body: { sha256: digest, name: file.name, size: file.size }, signal }),
	);
	const piece = 8_388_608;
	while (!content.whole) {
		tell("sending", content.have / Math.max(file.size, 1));
		content = await sendBytes(
			`/contents/${digest}?offset=${content.have}`,
			file.slice(content.have, content.have + piece),
			signal,
		);
	}
	return content;
}
