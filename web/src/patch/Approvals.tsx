import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { useMayEverywhere } from "../api/me";
import { usePages, useReadAnew } from "../api/queries";
import { ScopeField, scopeText } from "../fleet/scope";
import { Editor, RowActions } from "../parts/Editor";
import { Labelled } from "../parts/Labelled";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { Heading } from "./words";

type Rule = Schemas["ApprovalRule"];

const classes = ["security", "critical", "definition", "driver", "feature", "other"] as const;
const does = { approve: "approves", hold: "holds", exclude: "excludes" };

/** The rules that approve, hold or exclude updates. */
export function Approvals() {
	const [params, setParams] = useSearchParams();
	const may = useMayEverywhere("updates.administer");
	const asked = params.get("update");
	const [editing, setEditing] = useState<Rule | undefined>(
		asked ? { name: asked, do: "hold", scope: { kind: "everywhere" }, names: [asked] } : undefined,
	);
	const list = usePages("/approvals", { query: { limit: 200 } });
	const readAnew = useReadAnew(["/approvals", "/updates", "/exposure", "/devices/{id}/updates"]);
	const remove = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/approvals/{id}", { params: { path: { id } } })),
		onSettled: readAnew,
	});
	return (
		<div>
			<Heading title="Rules">
				{may && !editing && (
					<button
						type="button"
						className="button ml-auto"
						onClick={() =>
							setEditing({ name: "", do: "approve", scope: { kind: "everywhere" }, classes: ["security"] })
						}
					>
						New rule
					</button>
				)}
			</Heading>
			<div className="px-5 py-4">
				<p className="mb-3 text-faint">
					What excludes goes before what holds, and both before what approves. What no rule is about stays undecided,
					and is not installed.
				</p>
				{editing && (
					<RuleForm
						key={editing.id ?? "new"}
						rule={editing}
						onDone={() => {
							setEditing(undefined);
							setParams({}, { replace: true });
							readAnew();
						}}
					/>
				)}
				{list.isPending && <Waiting what="the rules" />}
				{(list.isError || remove.isError) && <ProblemAlert error={list.error ?? remove.error} />}
				{list.data && list.rows.length === 0 && !editing && (
					<Empty title="There is no rule yet.">
						Begin with one that approves security updates, a few days after they come out.
					</Empty>
				)}
				{list.rows.length > 0 && (
					<Table
						rows={list.rows}
						list={list}
						id={(a) => a.rule.id ?? ""}
						columns={[
							{ head: "Rule", className: "font-medium", value: (a) => a.rule.name },
							{
								head: "Does",
								className: (a) =>
									a.rule.do === "approve" ? "text-moss" : a.rule.do === "hold" ? "text-gorse" : "text-mist",
								show: (a) => does[a.rule.do],
							},
							{
								head: "Which updates",
								show: (a) => (
									<>
										{which(a.rule)}
										{a.rule.reason && <span className="block text-faint text-sm">{a.rule.reason}</span>}
									</>
								),
							},
							{
								head: "Set for",
								value: (a) => scopeText(a.rule.scope, a.scope_name),
								show: (a) => scopeText(a.rule.scope, a.scope_name),
							},
							{ head: "Until", value: (a) => a.rule.until, show: (a) => a.rule.until && <Ago at={a.rule.until} /> },
							{
								head: "Changed",
								value: (a) => a.changed_at,
								show: (a) => (
									<>
										<Ago at={a.changed_at} />
										<span className="block text-faint text-sm">{a.changed_by}</span>
									</>
								),
							},
							{
								head: "",
								actions: true,
								show: (a) =>
									may && (
										<RowActions
											name={a.rule.name}
											onChange={() => setEditing(a.rule)}
											onRemove={() => remove.mutate(a.rule.id ?? "")}
										/>
									),
							},
						]}
					/>
				)}
			</div>
		</div>
	);
}

function which(r: Rule) {
	const parts = [
		r.names?.join(", "),
		r.classes?.join(", "),
		r.severity && `${r.severity} or worse`,
		r.sources?.length && `from ${r.sources.join(", ")}`,
		r.vendor && `by ${r.vendor}`,
		r.title && `named as ${r.title}`,
	].filter(Boolean);
	return (parts.length ? parts.join("; ") : "all") + (r.defer_days ? `, ${r.defer_days} days after the release` : "");
}

function RuleForm({ rule, onDone }: { rule: Rule; onDone: () => void }) {
	const [r, setRule] = useState(rule);
	const set = (change: Partial<Rule>) => setRule({ ...r, ...change });
	const save = useMutation({
		mutationFn: () =>
			rule.id
				? answer(api.PUT("/approvals/{id}", { params: { path: { id: rule.id } }, body: r }))
				: answer(api.POST("/approvals", { body: r })),
		onSuccess: onDone,
	});
	const approves = r.do === "approve";
	return (
		<Editor save={save} onCancel={onDone}>
			<div className="flex flex-wrap items-end gap-4">
				<Labelled label="Name of the rule">
					<input
						className="field w-64"
						required
						maxLength={200}
						value={r.name}
						onChange={(e) => set({ name: e.target.value })}
					/>
				</Labelled>
				<Labelled label="It">
					<select
						className="field w-36"
						value={r.do}
						onChange={(e) => set({ do: e.target.value as Rule["do"], defer_days: undefined })}
					>
						{Object.entries(does).map(([value, word]) => (
							<option key={value} value={value}>
								{word}
							</option>
						))}
					</select>
				</Labelled>
				<ScopeField scope={r.scope} onChange={(scope) => set({ scope })} />
			</div>
			<fieldset className="flex flex-wrap gap-x-4 gap-y-1">
				<legend className="mb-1 font-medium">Of these classes; none is all</legend>
				{classes.map((c) => (
					<label key={c} className="flex items-center gap-1.5">
						<input
							type="checkbox"
							checked={r.classes?.includes(c) ?? false}
							onChange={(e) =>
								set({ classes: e.target.checked ? [...(r.classes ?? []), c] : r.classes?.filter((x) => x !== c) })
							}
						/>
						{c}
					</label>
				))}
			</fieldset>
			<div className="flex flex-wrap items-end gap-4">
				<Labelled label="At least this severe">
					<select
						className="field w-36"
						value={r.severity ?? ""}
						onChange={(e) => set({ severity: e.target.value as Rule["severity"] })}
					>
						<option value="">any</option>
						{(["low", "medium", "high", "critical"] as const).map((s) => (
							<option key={s} value={s}>
								{s}
							</option>
						))}
					</select>
				</Labelled>
				<Labelled label="Named exactly, parted by commas">
					<input
						className="field w-72"
						value={r.names?.join(", ") ?? ""}
						onChange={(e) => set({ names: e.target.value ? e.target.value.split(/,\s*/) : undefined })}
					/>
				</Labelled>
				<Labelled label="Part of its title">
					<input
						className="field w-44"
						value={r.title ?? ""}
						onChange={(e) => set({ title: e.target.value || undefined })}
					/>
				</Labelled>
				<Labelled label="Part of its vendor">
					<input
						className="field w-44"
						value={r.vendor ?? ""}
						onChange={(e) => set({ vendor: e.target.value || undefined })}
					/>
				</Labelled>
			</div>
			<div className="flex flex-wrap items-end gap-4">
				{approves ? (
					<Labelled label="Days after the release">
						<input
							className="field w-28"
							type="number"
							min={0}
							max={365}
							value={r.defer_days ?? 0}
							onChange={(e) => set({ defer_days: e.target.valueAsNumber || undefined })}
						/>
					</Labelled>
				) : (
					<Labelled label="Why">
						<input
							className="field w-96"
							required
							value={r.reason ?? ""}
							onChange={(e) => set({ reason: e.target.value || undefined })}
						/>
					</Labelled>
				)}
				<Labelled label="Until, if it ends by itself">
					<input
						className="field"
						type="date"
						value={r.until?.slice(0, 10) ?? ""}
						onChange={(e) =>
							set({ until: e.target.value ? new Date(`${e.target.value}T00:00`).toISOString() : undefined })
						}
					/>
				</Labelled>
			</div>
		</Editor>
	);
}
