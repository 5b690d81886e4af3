import { answer, api, type Device } from "../api/client";
import { useDeed } from "./Pane";

/** Wakes a device that is silent, through its neighbours. */
export function Wake({ device }: { device: Device }) {
	const deed = useDeed((_: undefined) =>
		answer(api.POST("/devices/{id}/wake", { params: { path: { id: device.id } } })),
	);
	return (
		<div>
			<button type="button" className="button" disabled={deed.busy} onClick={() => deed.act(undefined)}>
				Wake it
			</button>
			{deed.said}
		</div>
	);
}
