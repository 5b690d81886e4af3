import { useState } from "react";
import type { Device } from "../api/client";
import { ProblemAlert } from "../parts/ProblemAlert";
import { Ending } from "./Ending";
import type { Seen } from "./useScreen";

/** What stands over the picture while there is none, or an old one. */
export function State({
	device,
	seen,
	session,
	onAgain,
}: {
	device: Device;
	seen: Seen;
	session?: string;
	onAgain: () => void;
}) {
	const { state } = seen;
	const [noted, setNoted] = useState<string>();
	if (state.is === "open") return null;
	const words = {
		asking: `Asking whether the screen of ${device.name} may be seen. The person there has half a minute to answer…`,
		connecting: "Opening the screen…",
		away: `The connection to ${device.name} was lost. The screen is opened again by itself as soon as it is back…`,
		ended: "",
	};
	return (
		<div className="absolute inset-0 grid place-items-center bg-black/50 p-4">
			<div role="status" className="max-w-md rounded-md border border-line bg-raised px-4 py-3 shadow-lg">
				{state.is !== "ended" && <p>{words[state.is]}</p>}
				{state.is === "ended" && (
					<>
						{state.error ? <ProblemAlert error={state.error} /> : <p>{state.why}</p>}
						{session && noted !== session && <Ending session={session} onDone={() => setNoted(session)} />}
						<button type="button" className="button-quiet mt-2" onClick={onAgain}>
							Open it again
						</button>
					</>
				)}
			</div>
		</div>
	);
}
