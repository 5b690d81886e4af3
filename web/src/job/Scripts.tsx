import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { useMay } from "../api/me";
import { usePages } from "../api/queries";
import { Editor } from "../parts/Editor";
import { JobForm } from "./JobForm";
import { Library } from "./Library";
import { TryForm } from "./TryForm";
import { Versions } from "./Versions";

type Script = Schemas["Script"];

const fresh = `#!/bin/sh
# --- moorwatch
# name: My script
# description: What it does.
# interpreter: sh
# systems: [linux]
# parameters:
# - {name: FOLDER, title: Which folder, kind: text, default: /var}
# seconds: 600
# repeatable: false
# ---
du -sh "$FOLDER"
`;

/** The library of scripts: read, changed, and run on many devices. */
export function Scripts() {
	const run = useMay("scripts.act");
	return (
		<Library<Script>
			of="script"
			list={usePages("/scripts", { query: { limit: 200 } })}
			remove={(id) => answer(api.DELETE("/scripts/{id}", { params: { path: { id } } }))}
			file={{ type: "text/plain", ending: "txt" }}
			removal="Jobs that ran it keep what they ran."
			empty="A script is tried on one device, then run on one or thousands; a policy can run it too."
			note={(s) => s.content.interpreter}
			version={(s) => `version ${s.version},`}
			form={(s, onDone) => <FileForm key={s?.id ?? "new"} script={s} onDone={onDone} />}
		>
			{(s) => (
				<>
					{s.content.description && <p className="mt-1 max-w-3xl">{s.content.description}</p>}
					{run && <JobForm work={{ script: s.id }} parameters={s.content.parameters ?? []} verb="Run it" />}
					<pre className="mt-4 overflow-auto whitespace-pre-wrap break-words rounded-md border border-line bg-panel p-3 font-mono text-sm">
						{s.content.body}
					</pre>
					<Versions path="/scripts/{id}/versions" id={s.id} />
				</>
			)}
		</Library>
	);
}

/** A script as its file. */
function FileForm({ script, onDone }: { script?: Script; onDone: (s?: Script) => void }) {
	const [file, setFile] = useState(script?.file ?? fresh);
	const save = useMutation({
		mutationFn: () =>
			script
				? answer(api.PUT("/scripts/{id}", { params: { path: { id: script.id } }, body: { file } }))
				: answer(api.POST("/scripts", { body: { file } })),
		onSuccess: onDone,
	});
	return (
		<>
			<Editor save={save} onCancel={() => onDone()}>
				<label className="block">
					<span className="font-medium">The script's file</span>{" "}
					<span className="text-faint text-sm">
						What stands between the two lines of dashes tells its name, what it asks for and where it runs; what it asks
						for reaches it as environment variables.
					</span>
					<textarea
						className="field mt-1 min-h-[50vh] w-full font-mono text-sm"
						spellCheck={false}
						value={file}
						onChange={(e) => setFile(e.target.value)}
					/>
				</label>
				<label className="button-quiet cursor-pointer">
					Read it from a file…
					<input
						type="file"
						className="sr-only"
						onChange={async (e) => {
							const one = e.target.files?.[0];
							if (one) setFile(await one.text());
						}}
					/>
				</label>
			</Editor>
			<TryForm draft={file} />
		</>
	);
}
