import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { useBrought } from "../fleet/chosen";
import { useGroups } from "../fleet/Groups";
import { nothing, PickField, targetOf } from "../fleet/PickField";
import { AreaField, CheckField, NumberField, SelectField, TextField } from "../parts/fields";
import { Labelled } from "../parts/Labelled";
import { ProblemAlert } from "../parts/ProblemAlert";
import { Ago } from "../parts/time";
import { Severity, soakText } from "./words";

type Ring = Schemas["Ring"];
type Spec = Schemas["RolloutSpec"];

const usual: Spec = {
	name: "",
	rings: [
		{ name: "a few", share: 5, soak_minutes: 24 * 60 },
		{ name: "a quarter", share: 25, soak_minutes: 24 * 60 },
		{ name: "the rest", soak_minutes: 0 },
	],
	gate: {},
	classes: ["security"],
	wait_hours: 7 * 24,
	restart: "needed",
	windows: true,
	stage: true,
};

/** What a rollout installs, on what, in which rings: it is told what it would do before it does. */
export function RolloutForm({ onCancel }: { onCancel: () => void }) {
	const go = useNavigate();
	const [spec, setSpec] = useState<Spec>(usual);
	const [choice, setChoice] = useState(useBrought());
	const groups = useGroups().data;
	const body = { spec, ...targetOf(choice, groups) };
	const plan = useMutation({ mutationFn: () => answer(api.POST("/rollouts", { body: { ...body, plan: true } })) });
	const begin = useMutation({
		mutationFn: () => answer(api.POST("/rollouts", { body })),
		onSuccess: (r) => go(`/rollouts/${r.id}`),
	});
	const changed =
		<T,>(set: (v: T) => void) =>
		(v: T) => {
			set(v);
			plan.reset();
			begin.reset();
		};
	const set = (change: Partial<Spec>) => changed(setSpec)({ ...spec, ...change });
	const setRing = (i: number, change: Partial<Ring>) =>
		set({ rings: spec.rings.map((r, n) => (n === i ? { ...r, ...change } : r)) });
	const check = (label: string, on: boolean | undefined, onChange: (on: boolean) => void) => (
		<CheckField className="flex items-center gap-1.5" checked={!!on} onChange={onChange}>
			{label}
		</CheckField>
	);
	const gate = (label: string, key: "failures" | "alerts" | "crashes" | "slower", usually: number) => (
		<NumberField
			label={label}
			className="w-24"
			min={0}
			placeholder={String(usually)}
			value={spec.gate[key]}
			onChange={(v) => set({ gate: { ...spec.gate, [key]: v || undefined } })}
		/>
	);
	return (
		<form
			className="mb-5 space-y-4 rounded-md border border-line bg-panel p-4"
			onSubmit={(e) => {
				e.preventDefault();
				if (plan.data) begin.mutate();
				else plan.mutate();
			}}
		>
			<div className="flex flex-wrap items-end gap-4">
				<TextField
					label="Name of the rollout"
					className="w-72"
					required
					maxLength={200}
					value={spec.name}
					onChange={(v) => set({ name: v })}
				/>
				<SelectField
					label="Approved updates"
					className="w-52"
					value={spec.classes?.join(",") ?? ""}
					onChange={(v) => set({ classes: v ? (v.split(",") as Spec["classes"]) : undefined })}
				>
					<option value="security">of security</option>
					<option value="security,critical">of security, and critical</option>
					<option value="definition">definitions of malware</option>
					<option value="">all that are approved</option>
				</SelectField>
				<SelectField label="Restart" className="w-56" value={spec.restart} onChange={(v) => set({ restart: v })}>
					<option value="needed">where one is needed</option>
					<option value="asked">once the person agrees</option>
					<option value="never">never</option>
				</SelectField>
				{spec.restart === "asked" && (
					<>
						<Labelled label="Put off at most">
							<NumberField
								label="Times that a restart may be put off"
								hidden
								className="w-20"
								min={1}
								max={10}
								placeholder="3"
								value={spec.deferrals}
								onChange={(v) => set({ deferrals: v || undefined })}
							/>
						</Labelled>
						<NumberField
							label="times, by minutes"
							className="w-20"
							min={1}
							max={240}
							placeholder="60"
							value={spec.defer}
							onChange={(v) => set({ defer: v || undefined })}
						/>
					</>
				)}
			</div>
			<PickField choice={choice} onChange={changed(setChoice)} />
			<fieldset>
				<legend className="mb-1 font-medium">Rings, one after another</legend>
				<ol className="space-y-2">
					{spec.rings.map((r, i) => (
						<li key={i} className="flex flex-wrap items-center gap-3">
							<span className="w-5 text-right text-faint tabular-nums">{i + 1}</span>
							<TextField
								label={`Name of ring ${i + 1}`}
								hidden
								className="w-40 py-1"
								required
								value={r.name}
								onChange={(v) => setRing(i, { name: v })}
							/>
							<SelectField
								label={`Who is in ring ${i + 1}`}
								hidden
								className="w-44 py-1"
								value={r.where !== undefined ? "where" : r.share ? "share" : "rest"}
								onChange={(v) =>
									setRing(i, {
										where: v === "where" ? "" : undefined,
										share: v === "share" ? 10 : undefined,
										devices: undefined,
									})
								}
							>
								<option value="share">a share of all</option>
								<option value="where">devices for which holds</option>
								<option value="rest">all that are left</option>
							</SelectField>
							{r.where !== undefined && (
								<TextField
									label={`Expression of ring ${i + 1}`}
									hidden
									className="w-72 py-1 font-mono text-sm"
									required
									placeholder='name.startsWith("cen-kiosk")'
									value={r.where}
									onChange={(v) => setRing(i, { where: v })}
								/>
							)}
							{r.share !== undefined && r.where === undefined && (
								<span className="flex items-center gap-1">
									<NumberField
										label={`Share of ring ${i + 1}, percent`}
										hidden
										className="w-20 py-1"
										min={1}
										max={100}
										value={r.share}
										onChange={(v) => setRing(i, { share: v || 1 })}
									/>
									%
								</span>
							)}
							<span className="flex items-center gap-1">
								watched for
								<NumberField
									label={`Minutes for which ring ${i + 1} is watched`}
									hidden
									className="w-24 py-1"
									min={0}
									value={r.soak_minutes}
									onChange={(v) => setRing(i, { soak_minutes: v || 0 })}
								/>
								min
							</span>
							{spec.rings.length > 1 && (
								<button
									type="button"
									className="button-quiet"
									aria-label={`Remove ring ${i + 1}`}
									onClick={() => set({ rings: spec.rings.filter((_, n) => n !== i) })}
								>
									Remove
								</button>
							)}
						</li>
					))}
				</ol>
				<button
					type="button"
					className="button-quiet mt-1"
					onClick={() => set({ rings: [{ name: "first", where: "", soak_minutes: 60 }, ...spec.rings] })}
				>
					A ring before these
				</button>
			</fieldset>
			<fieldset className="flex flex-wrap items-end gap-4">
				<legend className="mb-1 font-medium">It is held between rings where more than this goes wrong</legend>
				{gate("Installations failed, %", "failures", 5)}
				{gate("More alerts, points", "alerts", 3)}
				{gate("More crashes, points", "crashes", 3)}
				{gate("Slower log-on or start, %", "slower", 25)}
				{check("Hold it too where there are not enough devices to tell", spec.gate.careful, (careful) =>
					set({ gate: { ...spec.gate, careful } }),
				)}
				{check("Take back what was installed where it is held", spec.gate.rollback, (rollback) =>
					set({ gate: { ...spec.gate, rollback } }),
				)}
			</fieldset>
			<div className="flex flex-wrap items-end gap-4">
				{check("In maintenance windows alone", spec.windows, (windows) => set({ windows }))}
				{check("Fetch before the window", spec.stage, (stage) => set({ stage }))}
				{check("Wake devices that are off, and shut them down afterwards", spec.wake, (wake) => set({ wake }))}
				{check("Urgent: watch no ring, once a second person agrees", spec.urgent, (urgent) => set({ urgent }))}
				<NumberField
					label="Hours to catch up those away"
					className="w-28"
					min={0}
					value={spec.wait_hours}
					onChange={(v) => set({ wait_hours: v || 0 })}
				/>
				<NumberField
					label="At once at a site"
					className="w-24"
					min={0}
					value={spec.per_site ?? 0}
					onChange={(v) => set({ per_site: v || 0 })}
				/>
			</div>
			<details>
				<summary className="link cursor-pointer">Scripts before and after</summary>
				<div className="mt-2 grid gap-3 lg:grid-cols-2">
					<StepField
						label="Before; where it fails nothing is installed"
						of={spec.before}
						onChange={(before) => set({ before })}
					/>
					<StepField label="After" of={spec.after} onChange={(after) => set({ after })} />
				</div>
			</details>
			{plan.data && <Preview of={plan.data} />}
			<div className="flex gap-2">
				<button
					type="submit"
					className="button"
					disabled={nothing(choice) || plan.isPending || begin.isPending || plan.data?.updates.length === 0}
				>
					{plan.data ? "Begin it" : "What would it do?"}
				</button>
				<button type="button" className="button-quiet" onClick={plan.data ? () => plan.reset() : onCancel}>
					{plan.data ? "Not yet" : "Cancel"}
				</button>
			</div>
			{(plan.isError || begin.isError) && <ProblemAlert error={plan.error ?? begin.error} />}
		</form>
	);
}

/** What a rollout would do. */
function Preview({ of: p }: { of: Schemas["Rollout"] }) {
	const n = p.rings.reduce((sum, r) => sum + (r.states.planned ?? 0), 0);
	return (
		<div role="status" className="space-y-3 border-line border-t pt-3">
			{p.updates.length === 0 ? (
				<p className="text-gorse">Nothing that these devices miss is approved: look at the rules.</p>
			) : (
				<p>
					It installs {p.updates.length} {p.updates.length === 1 ? "update" : "updates"} on <strong>{n}</strong>{" "}
					{n === 1 ? "device" : "devices"}
					{p.left_out ? `; ${p.left_out} more miss nothing of these` : ""}.
				</p>
			)}
			<ol className="grid gap-3 lg:grid-cols-3">
				{p.rings.map((r, i) => (
					<li key={i} className="rounded-md border border-line p-2.5">
						<p className="font-medium">
							{i + 1}. {r.name}
						</p>
						<p>
							{r.states.planned ?? 0} to patch, {soakText(p.spec.rings[i])}
						</p>
						{(r.shut ?? 0) > 0 && (
							<p className="text-rowan">{r.shut} have no maintenance window in time, and would be missed.</p>
						)}
						<Times of={(p.plan ?? []).filter((d) => d.ring === i)} />
					</li>
				))}
			</ol>
			<ul className="grid gap-x-6 lg:grid-cols-2">
				{p.updates.slice(0, 12).map((x) => (
					<li key={x.update.source + x.update.name + x.update.to} className="flex gap-3">
						<span className="w-10 text-right tabular-nums">{x.devices}</span>
						<span className="min-w-0 flex-1 truncate">{x.update.title || x.update.name}</span>
						<Severity of={x.update} />
					</li>
				))}
			</ul>
			{p.updates.length > 12 && <p className="text-faint">and {p.updates.length - 12} more</p>}
		</div>
	);
}

/** When which devices of a ring are patched at the earliest. */
function Times({ of: devices }: { of: Schemas["PlannedDevice"][] }) {
	const turns = new Map<string, string[]>();
	for (const d of devices) {
		const at = d.at ?? "";
		turns.set(at, [...(turns.get(at) ?? []), d.device]);
	}
	return (
		<ul className="mt-1 space-y-1 text-sm">
			{[...turns].slice(0, 8).map(([at, names]) => (
				<li key={at}>
					{at ? (
						<>
							from <Ago at={at} />
						</>
					) : (
						<span className="text-rowan">never</span>
					)}
					<span className="block truncate text-faint" title={names.join(", ")}>
						{names.length}: {names.join(", ")}
					</span>
				</li>
			))}
			{turns.size > 8 && <li className="text-faint">and at {turns.size - 8} more times</li>}
		</ul>
	);
}

type Steps = Spec["before"];

/** A script that devices run. */
function StepField({ label, of, onChange }: { label: string; of: Steps; onChange: (steps: Steps) => void }) {
	const [by, setBy] = useState(of?.[0]?.interpreter ?? "sh");
	const change = (interpreter: string, body: string) =>
		onChange(body.trim() ? [{ do: "script", interpreter, body }] : undefined);
	const body = of?.[0]?.body ?? "";
	return (
		<div className="space-y-1">
			<AreaField
				label={label}
				className="h-24 w-full font-mono text-sm"
				spellCheck={false}
				value={body}
				onChange={(v) => change(by, v)}
			/>
			<label className="flex items-center gap-2 text-sm">
				run by
				<select
					className="field py-0.5"
					value={by}
					onChange={(e) => {
						setBy(e.target.value);
						change(e.target.value, body);
					}}
				>
					{["sh", "python", "powershell", "batch"].map((name) => (
						<option key={name}>{name}</option>
					))}
				</select>
			</label>
		</div>
	);
}
