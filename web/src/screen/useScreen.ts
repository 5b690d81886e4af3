import { useCallback, useEffect, useRef, useState } from "react";
import type { Schemas } from "../api/client";
import { writeClipboard } from "./clipboard";
import { Connection, type State } from "./connection";

type Size = { width: number; height: number };

/** What is known of a desktop that is looked at. */
export type Seen = {
	state: State;
	size?: Size;
	begin?: Schemas["ScreenBegin"];
	stage?: Schemas["ScreenStage"];
	cursor?: Schemas["ScreenCursor"];
	pointer?: Schemas["ScreenPoint"]; // where another hand left it
	link?: Schemas["ScreenLink"];
	notes: Schemas["ScreenNote"][];
	problem?: string;
};

const mostNotes = 500;

/** Opens a desktop for as long as the component is there. */
export function useScreen(device: string, desktop?: string) {
	const [connection, setConnection] = useState<Connection>();
	const [seen, setSeen] = useState<Seen>({ state: { is: "asking" }, notes: [] });
	const problem = useRef<ReturnType<typeof setTimeout>>(undefined);
	const note = useCallback((more: Partial<Seen>) => setSeen((old) => ({ ...old, ...more })), []);
	const complain = useCallback(
		(text: string) => {
			note({ problem: text });
			clearTimeout(problem.current);
			problem.current = setTimeout(() => note({ problem: undefined }), 8000);
		},
		[note],
	);
	useEffect(() => {
		const made = new Connection(device, desktop);
		made.onState = (state) => note({ state });
		made.onSize = (size) => note({ size });
		made.onEvent = (e) => {
			if (e.problem) complain(e.problem);
			else if (e.clip)
				writeClipboard(e.clip).catch(() =>
					complain("What was copied there could not be put on your clipboard: click on the screen first."),
				);
			else if (e.note) {
				const said = e.note;
				setSeen((old) => ({ ...old, notes: [...old.notes, said].slice(-mostNotes) }));
			} else if (e.begin) note({ begin: e.begin });
			else if (e.stage) note({ stage: e.stage });
			else if (e.cursor) note({ cursor: e.cursor });
			else if (e.pointer) note({ pointer: e.pointer });
			else if (e.link) note({ link: e.link });
		};
		setConnection(made);
		return () => {
			clearTimeout(problem.current);
			made.close();
		};
	}, [device, desktop, note, complain]);
	const forget = useCallback(() => note({ pointer: undefined }), [note]);
	return { connection, seen, complain, forget };
}
