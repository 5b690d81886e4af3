import type { Schemas } from "../api/client";
import { lines } from "../api/lines";

/** Does an action to files of a device, and tells to how many it was done and what failed. */
export async function change(device: string, body: Schemas["FileAction"]) {
	const failed: string[] = [];
	let done = 0;
	await lines<Schemas["FileEvent"]>(
		`/devices/${device}/files`,
		new AbortController().signal,
		(e) => {
			if (e.error) failed.push(e.error);
			done = e.files ?? done;
		},
		body,
	);
	return { done, failed };
}
