import { XMarkIcon } from "@heroicons/react/20/solid";
import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../api/client";
import { read } from "../api/queries";
import { CheckField, NumberField, SelectField, TextField } from "../parts/fields";

type Response = Schemas["Response"];
type Step = Schemas["ResponseStep"];

const actions: [string, string][] = [
	["restart-service", "restart the service"],
	["start-service", "start the service"],
	["script", "run a script"],
	["install", "install a package"],
	["remove", "remove a package"],
	["set", "set a setting"],
	["restart-device", "restart the device"],
	["wait", "wait whether it recovers"],
];

/** What a step of a response does, in words. */
export function stepText(s: Step, library: Library) {
	const word = actions.find(([d]) => d === s.do)?.[1] ?? s.do;
	const name = library.find((x) => x.id === (s.script ?? s.package))?.name;
	return [
		name ? word.replace("a script", name).replace("a package", name) : word,
		s.service ?? s.path ?? "",
		s.windows ? "in its window" : "",
	]
		.filter(Boolean)
		.join(" ");
}

export type Library = { id: string; name: string; kind: "script" | "package" }[];

/** The names of what the libraries hold, for choosing. */
export function useLibrary(): Library {
	const scripts = useQuery({ ...read("/scripts", { query: { limit: 500 } }), staleTime: 60_000, retry: false }).data
		?.items;
	const packages = useQuery({ ...read("/packages", { query: { limit: 500 } }), staleTime: 60_000, retry: false }).data
		?.items;
	return [
		...(scripts ?? []).map((s) => ({ id: s.id, name: s.content.name, kind: "script" as const })),
		...(packages ?? []).map((p) => ({ id: p.id, name: p.content.name, kind: "package" as const })),
	];
}

/** How the times went in which a response was tried. */
export function outcomeText(o?: Schemas["ResponseOutcome"]) {
	if (!o) return "not tried in the last 90 days";
	const over = o.healed + o.gave_up + o.held;
	const parts = [over > 0 ? `healed ${o.healed} of ${over} times (${Math.round((100 * o.healed) / over)} %)` : ""];
	if (o.held > 0) parts.push(`held back ${o.held} times`);
	if (o.under_way > 0) parts.push(`${o.under_way} under way`);
	return parts.filter(Boolean).join(", ");
}

/** What is done by itself when a check fails. */
export function ResponseField({
	response: r,
	kinds,
	library,
	outcome,
	onChange,
	onRemove,
}: {
	response: Response;
	kinds: Schemas["CheckKind"][];
	library: Library;
	outcome?: Schemas["ResponseOutcome"];
	onChange: (r: Response) => void;
	onRemove: () => void;
}) {
	const put = (i: number, s?: Step) =>
		onChange({ ...r, steps: r.steps.flatMap((old, n) => (n === i ? (s ? [s] : []) : [old])) });
	const of = kinds.find((k) => k.name === r.check)?.of;
	return (
		<fieldset className="rounded-md border border-line bg-raised p-3">
			<legend className="px-1 font-medium">
				Response <span className="font-normal text-faint">{outcomeText(outcome)}</span>
			</legend>
			<div className="flex flex-wrap items-center gap-x-4 gap-y-2">
				<label className="flex items-center gap-1.5">
					<span className="text-faint">called</span>
					<input
						className="field w-56"
						required
						maxLength={80}
						value={r.name}
						onChange={(e) => onChange({ ...r, name: e.target.value })}
					/>
				</label>
				<label className="flex items-center gap-1.5">
					<span className="text-faint">when this fails</span>
					<select className="field w-60" value={r.check} onChange={(e) => onChange({ ...r, check: e.target.value })}>
						{kinds.map((k) => (
							<option key={k.name} value={k.name}>
								{k.title}
							</option>
						))}
					</select>
				</label>
				{of && (
					<label className="flex items-center gap-1.5">
						<span className="text-faint">of {of}</span>
						<input
							className="field w-48"
							placeholder="any"
							value={r.subject ?? ""}
							onChange={(e) => onChange({ ...r, subject: e.target.value })}
						/>
					</label>
				)}
				<button
					type="button"
					className="ml-auto rounded p-1 text-faint hover:text-word"
					aria-label={`Remove the response ${r.name}`}
					onClick={onRemove}
				>
					<XMarkIcon className="size-4" />
				</button>
			</div>
			<ol className="mt-2 space-y-1.5">
				{r.steps.map((s, i) => (
					<li key={i} className="flex flex-wrap items-center gap-x-3 gap-y-1">
						<span className="w-14 text-faint">{i === 0 ? "first" : "then"}</span>
						<StepField step={s} library={library} onChange={(next) => put(i, next)} />
						<label className="flex items-center gap-1.5">
							<span className="text-faint">and watch for, s</span>
							<input
								type="number"
								min={0}
								className="field w-20"
								placeholder="120"
								value={s.watch || ""}
								onChange={(e) => put(i, { ...s, watch: e.target.valueAsNumber || undefined })}
							/>
						</label>
						<button
							type="button"
							className="rounded p-1 text-faint hover:text-word"
							aria-label={`Remove step ${i + 1}`}
							onClick={() => put(i)}
						>
							<XMarkIcon className="size-4" />
						</button>
					</li>
				))}
				<li className="flex items-center gap-3 text-faint">
					<span className="w-14">{r.steps.length > 0 ? "at last" : ""}</span>
					{r.steps.length > 0 && "tell a person, by the rules of notices"}
					<button
						type="button"
						className="button-quiet"
						onClick={() => onChange({ ...r, steps: [...r.steps, { do: "restart-service" }] })}
					>
						Add a step
					</button>
				</li>
			</ol>
			<div className="mt-2 flex flex-wrap items-center gap-3 text-faint">
				At a device at most
				<NumberField
					label="How many times"
					hidden
					className="w-16"
					min={1}
					max={50}
					placeholder="3"
					value={r.attempts || undefined}
					onChange={(v) => onChange({ ...r, attempts: v || undefined })}
				/>
				times within
				<NumberField
					label="Within how many hours"
					hidden
					className="w-16"
					min={1}
					max={720}
					placeholder="24"
					value={r.hours || undefined}
					onChange={(v) => onChange({ ...r, hours: v || undefined })}
				/>
				hours, so that nothing loops; then a person is told at once.
			</div>
		</fieldset>
	);
}

function StepField({ step: s, library, onChange }: { step: Step; library: Library; onChange: (s: Step) => void }) {
	const kind = s.do === "script" ? "script" : "package";
	const text = (key: "service" | "path" | "value", hint: string) => (
		<TextField
			label={hint}
			hidden
			className="w-48"
			placeholder={hint}
			value={s[key] ?? ""}
			onChange={(v) => onChange({ ...s, [key]: v || undefined })}
		/>
	);
	return (
		<>
			<SelectField
				label="What it does"
				hidden
				className="w-56"
				value={s.do}
				onChange={(v) => onChange({ do: v, watch: s.watch })}
			>
				{actions.map(([d, word]) => (
					<option key={d} value={d}>
						{word}
					</option>
				))}
			</SelectField>
			{(s.do === "restart-service" || s.do === "start-service") && text("service", "the failing one")}
			{s.do === "set" && text("path", "the failing one")}
			{s.do === "set" && text("value", "value")}
			{(s.do === "script" || s.do === "install" || s.do === "remove") && (
				<SelectField
					label={`Which ${kind}`}
					hidden
					className="w-56"
					required
					value={s[kind] ?? ""}
					onChange={(v) => onChange({ ...s, [kind]: v })}
				>
					<option value="">which…</option>
					{library
						.filter((x) => x.kind === kind)
						.map((x) => (
							<option key={x.id} value={x.id}>
								{x.name}
							</option>
						))}
				</SelectField>
			)}
			{s.do === "script" && (
				<input
					className="field w-56 font-mono text-sm"
					aria-label="Parameters, NAME=value"
					placeholder="NAME=value, NAME=value"
					defaultValue={Object.entries(s.values ?? {})
						.map(([k, v]) => `${k}=${v}`)
						.join(", ")}
					onBlur={(e) =>
						onChange({
							...s,
							values: Object.fromEntries(
								e.target.value
									.split(",")
									.filter((p) => p.includes("="))
									.map((p) => [p.slice(0, p.indexOf("=")).trim(), p.slice(p.indexOf("=") + 1).trim()]),
							),
						})
					}
				/>
			)}
			{s.do !== "wait" && (
				<CheckField
					className="flex items-center gap-1.5"
					checked={!!s.windows}
					onChange={(v) => onChange({ ...s, windows: v || undefined })}
				>
					in its window
				</CheckField>
			)}
		</>
	);
}
