import { useMutation } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { Editor } from "../parts/Editor";
import { ProblemAlert } from "../parts/ProblemAlert";
import { store } from "./contents";

type Package = Schemas["Package"];

const fresh = `package: My package
version: "1.0"
systems: [linux]
there: {kind: file, of: /etc/example.conf}
files: []
install:
  - {do: edit, path: /etc/example.conf, find: "^greeting=", line: "greeting=hello"}
remove:
  - {do: delete, path: /etc/example.conf}
`;

/** A package as its file, with the files that it brings sent to the content store. */
export function PackageForm({ package: p, onDone }: { package?: Package; onDone: (p?: Package) => void }) {
	const [file, setFile] = useState(p?.file ?? fresh);
	const [how, setHow] = useState("");
	const stop = useRef<AbortController>(undefined);
	const save = useMutation({
		mutationFn: () =>
			p
				? answer(api.PUT("/packages/{id}", { params: { path: { id: p.id } }, body: { file } }))
				: answer(api.POST("/packages", { body: { file } })),
		onSuccess: onDone,
	});
	const add = useMutation({
		mutationFn: async (files: File[]) => {
			stop.current = new AbortController();
			for (const f of files) {
				const c = await store(
					f,
					(what, share) => setHow(`${f.name}: ${what}, ${Math.round(share * 100)} %`),
					stop.current.signal,
				);
				setFile((text) => withFile(text, c));
			}
		},
		onSettled: () => setHow(""),
	});
	return (
		<Editor save={save} onCancel={() => onDone()}>
			<label className="block">
				<span className="font-medium">The package's file</span>{" "}
				<span className="text-faint text-sm">
					It says how the package is known to be there, which files it brings, and the steps that install and remove it.
				</span>
				<textarea
					className="field mt-1 min-h-[46vh] w-full font-mono text-sm"
					spellCheck={false}
					value={file}
					onChange={(e) => setFile(e.target.value)}
				/>
			</label>
			<div className="flex flex-wrap items-center gap-3">
				<label className="button-quiet cursor-pointer border border-line">
					Add files to it…
					<input
						type="file"
						multiple
						className="sr-only"
						onChange={(e) => {
							if (e.target.files) add.mutate([...e.target.files]);
							e.target.value = "";
						}}
					/>
				</label>
				<label className="button-quiet cursor-pointer">
					Read it from a file…
					<input
						type="file"
						accept=".yaml,.yml,.txt"
						className="sr-only"
						onChange={async (e) => {
							const one = e.target.files?.[0];
							if (one) setFile(await one.text());
						}}
					/>
				</label>
				{add.isPending && (
					<>
						<span role="status">{how}</span>
						<button type="button" className="button-quiet" onClick={() => stop.current?.abort()}>
							Stop
						</button>
					</>
				)}
			</div>
			{add.isError && !stop.current?.signal.aborted && <ProblemAlert error={add.error} />}
		</Editor>
	);
}

/** The text of a package with a file of the content store among those that it brings. */
export function withFile(text: string, c: Pick<Schemas["Content"], "name" | "sha256" | "size">) {
	const name = c.name.replace(/[^A-Za-z0-9._+~-]/g, "-");
	const line = `  - {name: ${name}, sha256: ${c.sha256}, size: ${c.size}}`;
	const lines = text.split("\n").filter((l) => !l.startsWith(`  - {name: ${name}, sha256:`));
	const at = lines.findIndex((l) => /^files:/.test(l));
	if (at < 0) {
		const before = lines.findIndex((l) => /^(there|install):/.test(l));
		lines.splice(Math.max(before, 0), 0, "files:", line);
	} else {
		lines[at] = "files:";
		lines.splice(at + 1, 0, line);
	}
	return lines.join("\n");
}
