import { type DragEvent, useState } from "react";
import type { Device } from "../api/client";
import { useMay } from "../api/me";
import { join } from "../files/paths";
import { send } from "../files/transfers";

/** Files that are dragged onto a screen are sent to a folder of who works there. */
export function useDrop(device: Device, folder: string | undefined, complain: (text: string) => void) {
	const [over, setOver] = useState(false);
	const may = useMay("files.act") && folder;
	const handlers = {
		onDragOver(e: DragEvent) {
			if (!may || !e.dataTransfer.types.includes("Files")) return;
			e.preventDefault();
			setOver(true);
		},
		onDragLeave(e: DragEvent) {
			if (!e.currentTarget.contains(e.relatedTarget as Node)) setOver(false);
		},
		onDrop(e: DragEvent) {
			setOver(false);
			if (!may) return;
			e.preventDefault();
			for (const file of e.dataTransfer.files)
				send(device, join(folder, file.name, device.os), file, () => complain(`${file.name} is in ${folder}.`));
		},
	};
	return { over, handlers };
}
