import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { useMay, useMayEverywhere } from "../access/me";
import { answer, api, type Schemas } from "../api/client";
import { Confirm } from "../parts/Confirm";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { More } from "../parts/Table";
import { Ago } from "../parts/time";
import { usePages } from "../parts/usePages";
import { JobForm } from "./JobForm";
import { Heading } from "./Library";
import { PackageForm } from "./PackageForm";
import { conditionText, Steps } from "./Steps";
import { Versions } from "./Versions";

type Package = Schemas["Package"];

/** The library of packages: read, changed, installed and removed. */
export function Packages() {
	const [params, setParams] = useSearchParams();
	const queries = useQueryClient();
	const may = useMayEverywhere("packages.administer");
	const run = useMay("packages.act");
	const [editing, setEditing] = useState<Package | "new">();
	const list = usePages(["packages"], (cursor, signal) =>
		answer(api.GET("/packages", { params: { query: { cursor, limit: 200 } }, signal })),
	);
	const chosen = list.rows.find((s) => s.id === params.get("package")) ?? list.rows[0];
	const remove = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/packages/{id}", { params: { path: { id } } })),
		onSuccess: () => queries.invalidateQueries({ queryKey: ["packages"] }),
	});
	return (
		<div className="flex h-full flex-col">
			<Heading title="Packages">
				{may && (
					<button type="button" className="button ml-auto" onClick={() => setEditing("new")}>
						New package
					</button>
				)}
			</Heading>
			{list.isPending && <Waiting what="the library" />}
			{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
			{list.data && list.rows.length === 0 && !editing && (
				<Empty title="There is no package yet.">
					A package is files and steps in order: copy, install, set, restart. It is installed and removed on one device
					or thousands, and a policy can want it.
				</Empty>
			)}
			{(list.rows.length > 0 || editing) && (
				<div className="grid min-h-0 flex-1 grid-cols-[17rem_minmax(0,1fr)]">
					<nav aria-label="Library" className="overflow-auto border-line border-r py-2">
						{list.rows.map((p) => (
							<button
								key={p.id}
								type="button"
								aria-current={p.id === chosen?.id}
								className={`block w-full px-5 py-1.5 text-left ${p.id === chosen?.id ? "bg-heather-tint font-medium" : "hover:bg-panel"}`}
								onClick={() => {
									setEditing(undefined);
									setParams({ package: p.id }, { replace: true });
								}}
							>
								{p.content.name}
								<span className="block text-faint text-sm">
									{p.content.version}, on {p.devices ?? 0} {p.devices === 1 ? "device" : "devices"}
								</span>
							</button>
						))}
						<More list={list} />
					</nav>
					<div className="min-w-0 overflow-auto p-5">
						{editing ? (
							<PackageForm
								key={editing === "new" ? "new" : editing.id}
								package={editing === "new" ? undefined : editing}
								onDone={(p) => {
									setEditing(undefined);
									queries.invalidateQueries({ queryKey: ["packages"] });
									if (p) setParams({ package: p.id }, { replace: true });
								}}
							/>
						) : (
							chosen && (
								<One
									key={chosen.id}
									of={chosen}
									may={may}
									run={run}
									onChange={() => setEditing(chosen)}
									onRemove={() => remove.mutate(chosen.id)}
									problem={remove.error}
								/>
							)
						)}
					</div>
				</div>
			)}
		</div>
	);
}

const actions = ["install", "remove"] as const;

function One({
	of: p,
	may,
	run,
	onChange,
	onRemove,
	problem,
}: {
	of: Package;
	may: boolean;
	run: boolean;
	onChange: () => void;
	onRemove: () => void;
	problem: unknown;
}) {
	const [action, setAction] = useState<(typeof actions)[number]>();
	const c = p.content;
	return (
		<>
			<div className="flex flex-wrap items-center gap-3">
				<h2 className="font-semibold text-lg">
					{c.name} {c.version}
				</h2>
				<span className="text-faint">
					<Ago at={p.changed_at} /> by {p.changed_by}
				</span>
				<span className="ml-auto flex gap-1">
					{run &&
						actions
							.filter((d) => d === "install" || (c.remove ?? []).length > 0)
							.map((d) => (
								<button
									key={d}
									type="button"
									className={d === "install" ? "button" : "button-quiet"}
									aria-pressed={action === d}
									onClick={() => setAction(action === d ? undefined : d)}
								>
									{d === "install" ? "Install…" : "Remove from devices…"}
								</button>
							))}
					{may && (
						<>
							<button type="button" className="button-quiet" onClick={onChange}>
								Change
							</button>
							<a
								className="button-quiet"
								href={`data:application/yaml;charset=utf-8,${encodeURIComponent(p.file)}`}
								download={`${c.name}.yaml`}
							>
								Save as file
							</a>
							<Confirm label="Remove" title={`Remove ${c.name} from the library?`} verb="Remove it" onDo={onRemove}>
								Devices keep what was installed.
							</Confirm>
						</>
					)}
				</span>
			</div>
			{c.description && <p className="mt-1 max-w-3xl">{c.description}</p>}
			{!!problem && <ProblemAlert error={problem} />}
			{action && (
				<JobForm
					key={action}
					work={{ package: p.id, remove: action === "remove" || undefined }}
					parameters={c.parameters ?? []}
					verb={action === "install" ? "Install it" : "Remove it"}
				/>
			)}
			<dl className="mt-4 grid max-w-3xl grid-cols-[8rem_minmax(0,1fr)] gap-x-4 gap-y-1">
				<dt className="text-faint">It is there when</dt>
				<dd>
					{conditionText(c.there)}
					{c.there.pattern && <span className="font-mono text-sm"> {c.there.pattern}</span>}
				</dd>
				<dt className="text-faint">Systems</dt>
				<dd>{c.systems?.join(", ") ?? "all"}</dd>
				{!!c.needs?.length && (
					<>
						<dt className="text-faint">Needs</dt>
						<dd>{c.needs.join(", ")}</dd>
					</>
				)}
				{!!c.replaces?.length && (
					<>
						<dt className="text-faint">Replaces</dt>
						<dd>{c.replaces.join(", ")}</dd>
					</>
				)}
				{!!c.files?.length && (
					<>
						<dt className="text-faint">Files</dt>
						<dd>
							{c.files.map((f) => (
								<span key={f.name} className="block">
									{f.name} <span className="text-faint tabular-nums">{size(f.size)}</span>{" "}
									<span className="font-mono text-faint text-sm" title={f.sha256}>
										{f.sha256.slice(0, 12)}…
									</span>
								</span>
							))}
						</dd>
					</>
				)}
			</dl>
			<Steps title="To install it" steps={c.install} />
			{!!c.remove?.length && <Steps title="To remove it" steps={c.remove} />}
			<Versions
				of={p.id}
				read={(signal) =>
					answer(api.GET("/packages/{id}/versions", { params: { path: { id: p.id }, query: { limit: 50 } }, signal }))
				}
			/>
		</>
	);
}

/** A size in decimal units. */
export function size(n: number) {
	if (n < 1000) return `${n} B`;
	if (n < 1e6) return `${(n / 1e3).toFixed(1)} kB`;
	return n < 1e9 ? `${(n / 1e6).toFixed(1)} MB` : `${(n / 1e9).toFixed(1)} GB`;
}
