import { XMarkIcon } from "@heroicons/react/20/solid";
import { useMutation } from "@tanstack/react-query";
import { Link } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import type { Scope } from "../fleet/scope";
import { CheckField, NumberField, SelectField } from "../parts/fields";
import { ProblemAlert } from "../parts/ProblemAlert";
import { useLibrary } from "./ResponseField";
import type { Setting } from "./setting";

type Kind = Schemas["CheckKind"];

const levels = ["notice", "warning", "critical"] as const;

/** A setting of a check to begin with. */
export function usual(kind: Kind): Setting {
	if (kind.wanted) return { check: kind.name, subject: "", level: "notice" };
	return kind.usual ?? { check: kind.name, subject: "", ...(kind.limits ? {} : { level: "warning" as const }) };
}

/** How one check judges; and what it would have alerted about last week, before it is saved. */
export function SettingField({
	setting: s,
	kind,
	scope,
	onChange,
	onRemove,
}: {
	setting: Setting;
	kind?: Kind;
	scope: Scope;
	onChange: (s: Setting) => void;
	onRemove: () => void;
}) {
	const trial = useMutation({
		mutationFn: () => answer(api.POST("/policies/trial", { body: { setting: s, scope, days: 7 } })),
	});
	const limit = (side: "above" | "below", level: (typeof levels)[number]) => (
		<input
			key={level}
			type="number"
			step="any"
			aria-label={`${kind?.title ?? s.check}, ${level} ${side}`}
			placeholder={level}
			className="field w-24"
			value={s[side]?.[level] ?? ""}
			onChange={(e) =>
				onChange({ ...s, [side]: { ...s[side], [level]: e.target.value === "" ? undefined : e.target.valueAsNumber } })
			}
		/>
	);
	return (
		<fieldset className="rounded-md border border-line bg-raised p-3">
			<legend className="px-1 font-medium">
				{kind?.title ?? s.check} {kind?.unit && <span className="font-normal text-faint">in {kind.unit}</span>}
			</legend>
			<div className="flex flex-wrap items-center gap-x-4 gap-y-2">
				<CheckField
					className="flex items-center gap-1.5"
					checked={!s.off}
					onChange={(v) => onChange({ ...s, off: !v })}
				>
					on
				</CheckField>
				{kind?.of && (
					<label className="flex items-center gap-1.5">
						<span className="text-faint">{kind.of}</span>
						<input
							className="field w-52"
							placeholder={kind.probe ? "which" : "every"}
							maxLength={300}
							value={s.subject ?? ""}
							onChange={(e) => onChange({ ...s, subject: e.target.value })}
						/>
					</label>
				)}
				{kind?.limits ? (
					<>
						<span className="flex items-center gap-1.5">
							<span className="text-faint">at or above</span>
							{levels.map((l) => limit("above", l))}
						</span>
						<span className="flex items-center gap-1.5">
							<span className="text-faint">at or below</span>
							{levels.map((l) => limit("below", l))}
						</span>
						<label className="flex items-center gap-1.5">
							<span className="text-faint">way back</span>
							<input
								type="number"
								step="any"
								min={0}
								className="field w-20"
								value={s.back ?? 0}
								onChange={(e) => onChange({ ...s, back: e.target.valueAsNumber || 0 })}
							/>
						</label>
					</>
				) : (
					<SelectField
						label="Level"
						hidden
						className="w-32"
						value={s.level ?? "warning"}
						onChange={(v) => onChange({ ...s, level: v })}
					>
						{levels.map((l) => (
							<option key={l}>{l}</option>
						))}
					</SelectField>
				)}
				<label className="flex items-center gap-1.5">
					<span className="text-faint">must last, s</span>
					<input
						type="number"
						min={0}
						className="field w-24"
						value={s.for_seconds ?? 0}
						onChange={(e) => onChange({ ...s, for_seconds: e.target.valueAsNumber || 0 })}
					/>
				</label>
				{kind?.probe && (
					<span className="flex items-center gap-1.5">
						<span className="text-faint">looked at every, s</span>
						<NumberField
							label={`${kind.title}, looked at every so many seconds`}
							hidden
							className="w-20"
							min={10}
							max={86400}
							placeholder="60"
							value={s.every_seconds || undefined}
							onChange={(v) => onChange({ ...s, every_seconds: v || undefined })}
						/>
					</span>
				)}
				{kind?.wanted && <WantedField setting={s} onChange={onChange} />}
				{kind?.name === "log" && (
					<label className="flex items-center gap-1.5">
						<span className="text-faint">pattern</span>
						<input
							className="field w-60 font-mono text-sm"
							value={s.pattern ?? ""}
							onChange={(e) => onChange({ ...s, pattern: e.target.value })}
						/>
					</label>
				)}
				<span className="ml-auto flex items-center gap-1">
					{kind?.reading && (
						<button type="button" className="button-quiet" disabled={trial.isPending} onClick={() => trial.mutate()}>
							{trial.isPending ? "Trying…" : "Try on last week"}
						</button>
					)}
					<button
						type="button"
						className="rounded p-1 text-faint hover:text-word"
						aria-label="Remove this check"
						onClick={onRemove}
					>
						<XMarkIcon className="size-4" />
					</button>
				</span>
			</div>
			{trial.isError && <ProblemAlert error={trial.error} />}
			{trial.data && (
				<p role="status" className="mt-2">
					It would have alerted <b>{trial.data.alerts} times</b> last week, on <b>{trial.data.devices}</b> of{" "}
					{trial.data.checked} devices
					{trial.data.items.length > 0 && ": "}
					{[...new Map(trial.data.items.map((e) => [e.device_id, e])).values()].slice(0, 8).map((e, i) => (
						<span key={e.device_id}>
							{i > 0 && ", "}
							<Link className="link underline" to={`/devices/${e.device_id}`}>
								{e.device}
							</Link>
						</span>
					))}
					.
				</p>
			)}
		</fieldset>
	);
}

/** What is wanted of a device, and whether it is put right by itself. */
function WantedField({ setting: s, onChange }: { setting: Setting; onChange: (s: Setting) => void }) {
	const library = useLibrary();
	return (
		<>
			<SelectField
				label="What is wanted"
				hidden
				className="w-36"
				value={s.absent ? "absent" : "there"}
				onChange={(v) => onChange({ ...s, absent: v === "absent" || undefined, value: undefined })}
			>
				<option value="there">is wanted</option>
				<option value="absent">is not wanted</option>
			</SelectField>
			{!s.absent && (
				<label className="flex items-center gap-1.5">
					<span className="text-faint">{s.check === "software" ? "version at least" : "value"}</span>
					<input
						className="field w-40"
						placeholder={s.check === "software" ? "any" : ""}
						value={s.value ?? ""}
						onChange={(e) => onChange({ ...s, value: e.target.value || undefined })}
					/>
				</label>
			)}
			<label className="flex items-center gap-1.5">
				<span className="text-faint">where it is not so</span>
				<select
					className="field w-56"
					value={s.fix ?? ""}
					onChange={(e) => onChange({ ...s, fix: e.target.value || undefined })}
				>
					<option value="">only tell of it</option>
					{s.check === "setting" && !s.absent && <option value="set">set it</option>}
					{s.check === "software" &&
						library
							.filter((x) => x.kind === "package")
							.map((x) => (
								<option key={x.id} value={x.id}>
									{s.absent ? "remove" : "install"} {x.name}
								</option>
							))}
				</select>
			</label>
		</>
	);
}
