import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { highlightSelectionMatches, search, searchKeymap } from "@codemirror/search";
import { EditorState } from "@codemirror/state";
import { EditorView, highlightActiveLine, keymap, lineNumbers } from "@codemirror/view";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { answer, api, type Device } from "../api/client";
import { useMay } from "../api/me";
import { read } from "../api/queries";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";

const look = EditorView.theme({
	"&": { height: "100%", fontSize: "13px", backgroundColor: "var(--page)", color: "var(--word)" },
	".cm-content": { fontFamily: "var(--font-mono)", caretColor: "var(--heather)" },
	".cm-gutters": { backgroundColor: "var(--panel)", color: "var(--faint)", border: "none" },
	".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "var(--heather-tint)" },
	"&.cm-focused": { outline: "none" },
	".cm-cursor": { borderLeftColor: "var(--heather)" },
	"&.cm-focused .cm-selectionBackground, .cm-selectionBackground, ::selection": {
		backgroundColor: "var(--heather-tint)",
	},
	".cm-panels": { backgroundColor: "var(--panel)", color: "var(--word)" },
});

/** Views and changes a text. What was read is compared before it is written over. */
export function Editor({ device, path, onClose }: { device: Device; path: string; onClose: () => void }) {
	const may = useMay("files.act");
	const box = useRef<HTMLDivElement>(null);
	const view = useRef<EditorView>(undefined);
	const [touched, setTouched] = useState(false);
	const asked = useQuery({
		...read("/devices/{id}/files/text", { path: { id: device.id }, query: { path } }),
		staleTime: Number.POSITIVE_INFINITY,
		gcTime: 0,
		refetchOnWindowFocus: false,
		retry: false,
	});
	const version = useRef("");
	const text = asked.data;
	useEffect(() => {
		if (!box.current || !text) return;
		version.current = text.version;
		const made = new EditorView({
			parent: box.current,
			state: EditorState.create({
				doc: text.text,
				extensions: [
					lineNumbers(),
					history(),
					search({ top: true }),
					highlightActiveLine(),
					highlightSelectionMatches(),
					keymap.of([...defaultKeymap, ...historyKeymap, ...searchKeymap, indentWithTab]),
					look,
					EditorState.readOnly.of(!may),
					EditorView.contentAttributes.of({ "aria-label": `Text of ${path}` }),
					EditorView.updateListener.of((u) => u.docChanged && setTouched(true)),
				],
			}),
		});
		view.current = made;
		made.focus();
		return () => made.destroy();
	}, [text, may, path]);
	const write = useMutation({
		mutationFn: () => {
			if (!text) throw new Error("nothing was read");
			return answer(
				api.PUT("/devices/{id}/files/text", {
					params: { path: { id: device.id } },
					body: { ...text, version: version.current, text: view.current?.state.doc.toString() ?? "" },
				}),
			);
		},
		onSuccess: (now) => {
			version.current = now.version;
			setTouched(false);
		},
	});
	return (
		<div className="flex h-full flex-col">
			<div className="flex items-center gap-2 border-line border-b px-3 py-1">
				<span className="truncate font-mono text-sm" title={path}>
					{path}
				</span>
				{text && (
					<span className="text-faint text-sm whitespace-nowrap">
						{text.encoding}, {text.line_end === "crlf" ? "CR LF" : "LF"}
					</span>
				)}
				<span className="ml-auto text-faint text-sm" role="status">
					{write.isPending ? "saving…" : touched ? "not saved" : write.isSuccess ? "saved" : ""}
				</span>
				{may && (
					<button
						type="button"
						className="button"
						disabled={!touched || write.isPending}
						onClick={() => write.mutate()}
					>
						Save
					</button>
				)}
				<button type="button" className="button-quiet" onClick={onClose}>
					{touched ? "Close without saving" : "Close"}
				</button>
			</div>
			{write.isError && <ProblemAlert error={write.error} />}
			{asked.isPending && <Waiting what="the text" />}
			{asked.isError && <ProblemAlert error={asked.error} retry={() => asked.refetch()} />}
			<div ref={box} className="min-h-0 flex-1 overflow-hidden" />
		</div>
	);
}
