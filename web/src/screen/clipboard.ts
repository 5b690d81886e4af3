import type { Schemas } from "../api/client";
import { pack, unpack } from "../api/lines";

const mostImage = 8 << 20; // bytes, as the device takes them

/** What this computer's clipboard holds, where the browser lets it be read. */
export async function readClipboard(): Promise<Schemas["ScreenClip"] | undefined> {
	for (const item of await navigator.clipboard.read()) {
		if (item.types.includes("text/plain")) return { text: await (await item.getType("text/plain")).text() };
		if (item.types.includes("image/png")) {
			const png = new Uint8Array(await (await item.getType("image/png")).arrayBuffer());
			if (png.length > mostImage) throw new Error("The picture is too large for the clipboard: send it as a file.");
			return { png: pack(png) };
		}
	}
}

/** Puts what was copied at a device on this computer's clipboard. */
export async function writeClipboard(clip: Schemas["ScreenClip"]) {
	if (clip.text) await navigator.clipboard.writeText(clip.text);
	else if (clip.png)
		await navigator.clipboard.write([
			new ClipboardItem({ "image/png": new Blob([unpack(clip.png) as BlobPart], { type: "image/png" }) }),
		]);
}
