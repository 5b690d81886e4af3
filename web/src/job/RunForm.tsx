import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { Labelled } from "../access/Door";
import { answer, api, type Schemas } from "../api/client";
import { Expression } from "../fleet/Expression";
import { GroupField } from "../fleet/Groups";
import { Trouble } from "../parts/Trouble";

type Limits = Schemas["JobLimits"];

/** What a script is run on: it is told on how many devices before it is done. */
export function RunForm({ script }: { script: Schemas["Script"] }) {
	const go = useNavigate();
	const [values, setValues] = useState<Record<string, string>>({});
	const [where, setWhere] = useState("");
	const [group, setGroup] = useState("");
	const [limits, setLimits] = useState<Limits>({ at_once: 50, stop_share: 20, wait_hours: 24 });
	const body = { script: script.id, values, where, group: group || undefined, limits };
	const plan = useMutation({ mutationFn: () => answer(api.POST("/jobs", { body: { ...body, plan: true } })) });
	const begin = useMutation({
		mutationFn: () => answer(api.POST("/jobs", { body })),
		onSuccess: (j) => go(`/jobs/${j.id}`),
	});
	const changed =
		<T,>(set: (v: T) => void) =>
		(v: T) => {
			set(v);
			plan.reset();
			begin.reset();
		};
	const number = (label: string, key: keyof Limits, hint?: string) => (
		<Labelled label={label} hint={hint}>
			<input
				className="field w-28"
				type="number"
				min={0}
				value={limits[key] ?? 0}
				onChange={(e) => changed(setLimits)({ ...limits, [key]: Number(e.target.value) })}
			/>
		</Labelled>
	);
	const p = plan.data;
	return (
		<form
			className="mt-4 space-y-3 rounded-md border border-line bg-panel p-4"
			onSubmit={(e) => {
				e.preventDefault();
				if (p) begin.mutate();
				else plan.mutate();
			}}
		>
			{(script.content.parameters ?? []).length > 0 && (
				<div className="flex flex-wrap gap-3">
					{script.content.parameters?.map((one) => (
						<Labelled key={one.name} label={(one.title || one.name) + (one.required ? "" : ", if any")}>
							<Value
								parameter={one}
								value={values[one.name] ?? one.default ?? ""}
								onChange={(v) => changed(setValues)({ ...values, [one.name]: v })}
							/>
						</Labelled>
					))}
				</div>
			)}
			<div className="grid gap-3 lg:grid-cols-[minmax(0,1fr)_16rem]">
				<Expression label="Devices for which this holds; nothing is all" value={where} onChange={changed(setWhere)} />
				<Labelled label="Of the group">
					<GroupField group={group} onChange={changed(setGroup)} />
				</Labelled>
			</div>
			<div className="flex flex-wrap gap-3">
				{number("At once", "at_once")}
				{number("At once a site", "per_site")}
				{number("Stop at % failed", "stop_share")}
				{number("Stop after failures", "stop_after")}
				{number("Hours to wait", "wait_hours")}
				{number("Spread, seconds", "spread")}
			</div>
			{p && (
				<p role="status">
					It runs on <strong>{p.counts.waiting ?? 0}</strong> devices, of which {p.online} are online now
					{p.sample && p.sample.length > 0 && `: ${p.sample.slice(0, 8).join(", ")}${p.sample.length > 8 ? " …" : ""}`}.
					{(p.counts.unfit ?? 0) > 0 && ` ${p.counts.unfit} more are of another system.`}
				</p>
			)}
			<div className="flex gap-2">
				<button
					type="submit"
					className="button"
					disabled={plan.isPending || begin.isPending || p?.counts.waiting === 0}
				>
					{p ? `Run it on ${p.counts.waiting ?? 0} devices` : "On how many?"}
				</button>
				{p && (
					<button type="button" className="button-quiet" onClick={() => plan.reset()}>
						Not yet
					</button>
				)}
			</div>
			{(plan.isError || begin.isError) && <Trouble error={plan.error ?? begin.error} />}
		</form>
	);
}

/** The field of one parameter. */
function Value({
	parameter: p,
	value,
	onChange,
}: {
	parameter: Schemas["ScriptParameter"];
	value: string;
	onChange: (v: string) => void;
}) {
	const of = p.kind === "choice" ? (p.of ?? []) : p.kind === "switch" ? ["yes", "no"] : undefined;
	if (of)
		return (
			<select className="field w-48" value={value} onChange={(e) => onChange(e.target.value)}>
				{!value && <option value="">…</option>}
				{of.map((v) => (
					<option key={v}>{v}</option>
				))}
			</select>
		);
	return (
		<input
			className="field w-72"
			type={p.kind === "secret" ? "password" : p.kind === "number" ? "number" : "text"}
			step="any"
			autoComplete="off"
			required={p.required}
			value={value}
			onChange={(e) => onChange(e.target.value)}
		/>
	);
}
