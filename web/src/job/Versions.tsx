import { useQuery } from "@tanstack/react-query";
import { diffLines } from "diff";
import { useState } from "react";
import { read } from "../api/queries";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Ago } from "../parts/time";

/** What something of a library was, and what each version changed. */
export function Versions({ path, id }: { path: "/scripts/{id}/versions" | "/packages/{id}/versions"; id: string }) {
	const [open, setOpen] = useState(false);
	const [chosen, setChosen] = useState<number>();
	const list = useQuery({ ...read(path, { path: { id }, query: { limit: 50 } }), enabled: open });
	const items = list.data?.items ?? [];
	const at = items.findIndex((v) => v.version === chosen);
	return (
		<details className="mt-4" onToggle={(e) => setOpen(e.currentTarget.open)}>
			<summary className="cursor-pointer font-medium">Versions, and what each changed</summary>
			{open && list.isPending && <Waiting what="the versions" />}
			{list.isError && <ProblemAlert error={list.error} />}
			<ul className="mt-1 flex flex-wrap gap-1">
				{items.map((v) => (
					<li key={v.version}>
						<button
							type="button"
							aria-pressed={v.version === chosen}
							className={`rounded-md px-2 py-0.5 text-sm ${v.version === chosen ? "bg-heather-tint font-medium text-heather" : "text-faint hover:text-word"}`}
							onClick={() => setChosen(v.version)}
						>
							{v.version}, <Ago at={v.changed_at} /> by {v.changed_by}
						</button>
					</li>
				))}
			</ul>
			{at >= 0 && <Differences before={items[at + 1]?.file ?? ""} after={items[at]?.file ?? ""} />}
		</details>
	);
}

/** Two texts, line by line: what is gone, and what came. */
export function Differences({ before, after }: { before: string; after: string }) {
	const parts = diffLines(before, after);
	if (parts.length === 1 && !parts[0]?.added) return <p className="mt-2 text-faint">They are alike.</p>;
	return (
		<pre className="mt-2 max-h-96 overflow-auto rounded-md border border-line bg-panel p-2 font-mono text-sm">
			{parts.map((p, i) => {
				const sign = p.added ? "+" : p.removed ? "−" : " ";
				const lines = p.value.replace(/\n$/, "").split("\n");
				const shown =
					!p.added && !p.removed && lines.length > 8 ? [...lines.slice(0, 3), "…", ...lines.slice(-3)] : lines;
				return (
					<span key={i} className={p.added ? "text-moss" : p.removed ? "text-rowan" : "text-faint"}>
						{shown.map((l) => `${sign} ${l}\n`).join("")}
					</span>
				);
			})}
		</pre>
	);
}
