import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { useMayEverywhere } from "../api/me";
import { usePages, useReadAnew } from "../api/queries";
import { ScopeField, scopeText } from "../fleet/scope";
import { Editor, RowActions } from "../parts/Editor";
import { CheckField, NumberField, SelectField, TextField } from "../parts/fields";
import { Heading } from "../parts/Heading";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";

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
				<TextField
					label="Name of the rule"
					className="w-64"
					required
					maxLength={200}
					value={r.name}
					onChange={(v) => set({ name: v })}
				/>
				<SelectField label="It" className="w-36" value={r.do} onChange={(v) => set({ do: v, defer_days: undefined })}>
					{Object.entries(does).map(([value, word]) => (
						<option key={value} value={value}>
							{word}
						</option>
					))}
				</SelectField>
				<ScopeField scope={r.scope} onChange={(scope) => set({ scope })} />
			</div>
			<fieldset className="flex flex-wrap gap-x-4 gap-y-1">
				<legend className="mb-1 font-medium">Of these classes; none is all</legend>
				{classes.map((c) => (
					<CheckField
						key={c}
						className="flex items-center gap-1.5"
						checked={r.classes?.includes(c) ?? false}
						onChange={(v) => set({ classes: v ? [...(r.classes ?? []), c] : r.classes?.filter((x) => x !== c) })}
					>
						{c}
					</CheckField>
				))}
			</fieldset>
			<div className="flex flex-wrap items-end gap-4">
				<SelectField
					label="At least this severe"
					className="w-36"
					value={r.severity ?? ""}
					onChange={(v) => set({ severity: v })}
				>
					<option value="">any</option>
					{(["low", "medium", "high", "critical"] as const).map((s) => (
						<option key={s} value={s}>
							{s}
						</option>
					))}
				</SelectField>
				<TextField
					label="Named exactly, parted by commas"
					className="w-72"
					value={r.names?.join(", ") ?? ""}
					onChange={(v) => set({ names: v ? v.split(/,\s*/) : undefined })}
				/>
				<TextField
					label="Part of its title"
					className="w-44"
					value={r.title ?? ""}
					onChange={(v) => set({ title: v || undefined })}
				/>
				<TextField
					label="Part of its vendor"
					className="w-44"
					value={r.vendor ?? ""}
					onChange={(v) => set({ vendor: v || undefined })}
				/>
			</div>
			<div className="flex flex-wrap items-end gap-4">
				{approves ? (
					<NumberField
						label="Days after the release"
						className="w-28"
						min={0}
						max={365}
						value={r.defer_days ?? 0}
						onChange={(v) => set({ defer_days: v || undefined })}
					/>
				) : (
					<TextField
						label="Why"
						className="w-96"
						required
						value={r.reason ?? ""}
						onChange={(v) => set({ reason: v || undefined })}
					/>
				)}
				<TextField
					label="Until, if it ends by itself"
					type="date"
					value={r.until?.slice(0, 10) ?? ""}
					onChange={(v) => set({ until: v ? new Date(`${v}T00:00`).toISOString() : undefined })}
				/>
			</div>
		</Editor>
	);
}
