import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { useMay, useMayEverywhere } from "../access/me";
import { answer, api, type Schemas } from "../api/client";
import { Confirm } from "../parts/Confirm";
import { Editor } from "../parts/Editor";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { More } from "../parts/Table";
import { Ago } from "../parts/time";
import { usePages } from "../parts/usePages";
import { JobForm } from "./JobForm";
import { Heading } from "./Library";
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
	const [params, setParams] = useSearchParams();
	const queries = useQueryClient();
	const may = useMayEverywhere("scripts.administer");
	const run = useMay("scripts.act");
	const [editing, setEditing] = useState<Script | "new">();
	const list = usePages(["scripts"], (cursor, signal) =>
		answer(api.GET("/scripts", { params: { query: { cursor, limit: 200 } }, signal })),
	);
	const chosen = list.rows.find((s) => s.id === params.get("script")) ?? list.rows[0];
	const remove = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/scripts/{id}", { params: { path: { id } } })),
		onSuccess: () => queries.invalidateQueries({ queryKey: ["scripts"] }),
	});
	return (
		<div className="flex h-full flex-col">
			<Heading title="Scripts">
				{may && (
					<button type="button" className="button ml-auto" onClick={() => setEditing("new")}>
						New script
					</button>
				)}
			</Heading>
			{list.isPending && <Waiting what="the library" />}
			{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
			{list.data && list.rows.length === 0 && !editing && <Empty title="The library is empty.">Add a script.</Empty>}
			<div className="grid min-h-0 flex-1 grid-cols-[17rem_minmax(0,1fr)]">
				<nav aria-label="Library" className="overflow-auto border-line border-r py-2">
					{list.rows.map((s) => (
						<button
							key={s.id}
							type="button"
							aria-current={s.id === chosen?.id}
							className={`block w-full px-5 py-1.5 text-left ${s.id === chosen?.id ? "bg-heather-tint font-medium" : "hover:bg-panel"}`}
							onClick={() => {
								setEditing(undefined);
								setParams({ script: s.id }, { replace: true });
							}}
						>
							{s.content.name}
							<span className="block text-faint text-sm">{s.content.interpreter}</span>
						</button>
					))}
					<More list={list} />
				</nav>
				<div className="min-w-0 overflow-auto p-5">
					{editing ? (
						<FileForm
							key={editing === "new" ? "new" : editing.id}
							script={editing === "new" ? undefined : editing}
							onDone={(s) => {
								setEditing(undefined);
								queries.invalidateQueries({ queryKey: ["scripts"] });
								if (s) setParams({ script: s.id }, { replace: true });
							}}
						/>
					) : (
						chosen && (
							<>
								<div className="flex flex-wrap items-center gap-3">
									<h2 className="font-semibold text-lg">{chosen.content.name}</h2>
									<span className="text-faint">
										version {chosen.version}, <Ago at={chosen.changed_at} /> by {chosen.changed_by}
									</span>
									{may && (
										<span className="ml-auto flex">
											<button type="button" className="button-quiet" onClick={() => setEditing(chosen)}>
												Change
											</button>
											<a
												className="button-quiet"
												href={`data:text/plain;charset=utf-8,${encodeURIComponent(chosen.file)}`}
												download={`${chosen.content.name}.txt`}
											>
												Save as file
											</a>
											<Confirm
												label="Remove"
												title={`Remove ${chosen.content.name}?`}
												verb="Remove it"
												onDo={() => remove.mutate(chosen.id)}
											>
												Jobs that ran it keep what they ran.
											</Confirm>
										</span>
									)}
								</div>
								{chosen.content.description && <p className="mt-1 max-w-3xl">{chosen.content.description}</p>}
								{remove.isError && <ProblemAlert error={remove.error} />}
								{run && (
									<JobForm
										key={chosen.id}
										work={{ script: chosen.id }}
										parameters={chosen.content.parameters ?? []}
										verb="Run it"
									/>
								)}
								<pre className="mt-4 overflow-auto rounded-md border border-line bg-panel p-3 font-mono text-sm">
									{chosen.content.body}
								</pre>
								<Versions
									of={chosen.id}
									read={(signal) =>
										answer(
											api.GET("/scripts/{id}/versions", {
												params: { path: { id: chosen.id }, query: { limit: 50 } },
												signal,
											}),
										)
									}
								/>
							</>
						)
					)}
				</div>
			</div>
		</div>
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
