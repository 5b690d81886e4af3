import { CursorArrowRippleIcon } from "@heroicons/react/20/solid";
import { Choice } from "../parts/Editor";
import type { Connection } from "./connection";
import type { Showing } from "./marks";

const ways = ["point", "line", "note"] as const;
const names = { point: "Point", line: "Draw", note: "Write" };

/** Pointing, drawing and writing on the person's own screen. */
export function ShowMenu({
	connection,
	showing,
	onShow,
}: {
	connection?: Connection;
	showing: Showing;
	onShow: (s: Showing) => void;
}) {
	if (!showing)
		return (
			<button
				type="button"
				className="button-quiet"
				title="Point, draw and write on the person's own screen"
				onClick={() => onShow("point")}
			>
				<CursorArrowRippleIcon className="size-4" aria-hidden="true" />
				Show
			</button>
		);
	return (
		<div role="toolbar" aria-label="Show on their screen" className="flex rounded-md bg-heather-tint/50">
			<Choice of={ways} chosen={ways.find((w) => w === showing)} name={(w) => names[w]} onChoose={onShow} />
			<button
				type="button"
				className="rounded-md px-2 py-0.5 text-faint text-sm hover:text-word"
				onClick={() => {
					connection?.send({ mark: { kind: "clear" } });
					onShow("");
				}}
			>
				Clear and stop
			</button>
		</div>
	);
}
