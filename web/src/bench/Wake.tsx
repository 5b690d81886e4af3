import { answer, api, type Device } from "../api/client";
import { useAction } from "../tools/Pane";

/** Wakes a device that is silent, through its neighbours. */
export function Wake({ device }: { device: Device }) {
	const action = useAction((_: undefined) =>
		answer(api.POST("/devices/{id}/wake", { params: { path: { id: device.id } } })),
	);
	return (
		<div>
			<button type="button" className="button" disabled={action.busy} onClick={() => action.act(undefined)}>
				Wake it
			</button>
			{action.said}
		</div>
	);
}
