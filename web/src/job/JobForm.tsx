import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { useBrought } from "../fleet/chosen";
import { useGroups } from "../fleet/Groups";
import { nothing, PickField, targetOf } from "../fleet/PickField";
import { Labelled } from "../parts/Labelled";
import { ProblemAlert } from "../parts/ProblemAlert";
import { Plan } from "./Plan";
import { ValueField } from "./ValueField";
import { WhenField, whole } from "./WhenField";

type Limits = Schemas["JobLimits"];

/** What a script or package is done on, and when: it is told on how many devices before it is done. */
export function JobForm({
	work,
	parameters,
	verb,
}: {
	work: Pick<Schemas["NewJob"], "script" | "package" | "remove">;
	parameters: Schemas["ScriptParameter"][];
	verb: string;
}) {
	const go = useNavigate();
	const [values, setValues] = useState<Record<string, string>>({});
	const [choice, setChoice] = useState(useBrought());
	const groups = useGroups().data;
	const [when, setWhen] = useState<Schemas["JobWhen"]>({});
	const [at, setAt] = useState("");
	const [limits, setLimits] = useState<Limits>({ at_once: 50, stop_share: 20, wait_hours: 24 });
	const body = {
		...work,
		values,
		...targetOf(choice, groups),
		limits,
		when: whole(when),
		begin_at: at ? new Date(at).toISOString() : undefined,
	};
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
	const number = (label: string, key: keyof Limits) => (
		<Labelled label={label}>
			<input
				className="field w-24"
				type="number"
				min={0}
				value={limits[key] ?? 0}
				onChange={(e) => changed(setLimits)({ ...limits, [key]: Number(e.target.value) })}
			/>
		</Labelled>
	);
	const p = plan.data;
	const standing = !!(when.rule || when.event || when.follow);
	const n = p?.counts.waiting ?? 0;
	return (
		<form
			className="mt-4 space-y-3 rounded-md border border-line bg-panel p-4"
			onSubmit={(e) => {
				e.preventDefault();
				if (p) begin.mutate();
				else plan.mutate();
			}}
		>
			{parameters.length > 0 && (
				<div className="flex flex-wrap gap-3">
					{parameters.map((one) => (
						<Labelled key={one.name} label={(one.title || one.name) + (one.required ? "" : ", if any")}>
							<ValueField
								parameter={one}
								value={values[one.name] ?? one.default ?? ""}
								onChange={(v) => changed(setValues)({ ...values, [one.name]: v })}
							/>
						</Labelled>
					))}
				</div>
			)}
			<PickField choice={choice} onChange={changed(setChoice)} />
			<WhenField when={when} at={at} onChange={changed(setWhen)} onAt={changed(setAt)} />
			<div className="flex flex-wrap gap-3">
				{number("Hours to wait", "wait_hours")}
				{number("At once", "at_once")}
				{number("At once a site", "per_site")}
				{number("Stop at % failed", "stop_share")}
				{number("Stop after failures", "stop_after")}
				{number("Spread, seconds", "spread")}
			</div>
			{p && <Plan plan={p} />}
			<div className="flex gap-2">
				<button
					type="submit"
					className="button"
					disabled={nothing(choice) || plan.isPending || begin.isPending || (!!p && n === 0 && !standing)}
				>
					{p ? (standing ? "Have it done so" : `${verb} on ${n} ${n === 1 ? "device" : "devices"}`) : "On how many?"}
				</button>
				{p && (
					<button type="button" className="button-quiet" onClick={() => plan.reset()}>
						Not yet
					</button>
				)}
			</div>
			{(plan.isError || begin.isError) && <ProblemAlert error={plan.error ?? begin.error} />}
		</form>
	);
}
