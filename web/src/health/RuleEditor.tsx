import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { ScopeField } from "../fleet/scope";
import { Editor } from "../parts/Editor";
import { Labelled } from "../parts/Labelled";

const days = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"] as const;

/** Who is told of which alerts, and when. */
export function RuleEditor({
	rule,
	channels,
	onDone,
}: {
	rule?: Schemas["Rule"];
	channels: Schemas["Channel"][];
	onDone: () => void;
}) {
	const [r, setRule] = useState<Schemas["NewRule"]>(
		rule?.rule ?? {
			name: "",
			scope: { kind: "everywhere" },
			least: "warning",
			ends: true,
			channel: channels[0]?.id ?? "",
		},
	);
	const hours = r.hours?.[0];
	const save = useMutation({
		mutationFn: () =>
			rule
				? answer(api.PUT("/rules/{id}", { params: { path: { id: rule.id } }, body: r }))
				: answer(api.POST("/rules", { body: r })),
		onSuccess: onDone,
	});
	const choose = (label: string, value: string, onChange: (id: string) => void, none?: string) => (
		<Labelled label={label}>
			<select className="field w-56" value={value} onChange={(e) => onChange(e.target.value)}>
				{none && <option value="">{none}</option>}
				{channels.map((c) => (
					<option key={c.id} value={c.id}>
						{c.name}
					</option>
				))}
			</select>
		</Labelled>
	);
	const minutes = (label: string, value: number | undefined, onChange: (n: number) => void) => (
		<Labelled label={label}>
			<input
				type="number"
				min={0}
				className="field w-28"
				value={value ?? 0}
				onChange={(e) => onChange(e.target.valueAsNumber || 0)}
			/>
		</Labelled>
	);
	return (
		<Editor save={save} onCancel={onDone}>
			<div className="flex flex-wrap items-end gap-4">
				<Labelled label="Name of the rule">
					<input
						className="field"
						required
						maxLength={200}
						value={r.name}
						onChange={(e) => setRule({ ...r, name: e.target.value })}
					/>
				</Labelled>
				<ScopeField scope={r.scope} onChange={(scope) => setRule({ ...r, scope })} />
				<Labelled label="From">
					<select
						className="field"
						value={r.least}
						onChange={(e) => setRule({ ...r, least: e.target.value as typeof r.least })}
					>
						<option>notice</option>
						<option>warning</option>
						<option>critical</option>
					</select>
				</Labelled>
				<label className="flex items-center gap-1.5 pb-2">
					<input type="checkbox" checked={r.ends} onChange={(e) => setRule({ ...r, ends: e.target.checked })} />
					their end, too
				</label>
			</div>
			<div className="flex flex-wrap items-end gap-4">
				{choose("Tells", r.channel, (channel) => setRule({ ...r, channel }))}
				{minutes("Gathers, minutes", r.digest_minutes, (n) => setRule({ ...r, digest_minutes: n }))}
				{choose(
					"If nobody acknowledges, tells",
					r.escalate_to ?? "",
					(id) => setRule({ ...r, escalate_to: id }),
					"nobody else",
				)}
				{r.escalate_to && minutes("after, minutes", r.escalate_minutes, (n) => setRule({ ...r, escalate_minutes: n }))}
			</div>
			<div className="flex flex-wrap items-center gap-3">
				<label className="flex items-center gap-1.5">
					<input
						type="checkbox"
						checked={hours !== undefined}
						onChange={(e) =>
							setRule({
								...r,
								hours: e.target.checked
									? [{ days: ["MO", "TU", "WE", "TH", "FR"], from: "08:00", to: "18:00" }]
									: undefined,
								zone: e.target.checked ? Intl.DateTimeFormat().resolvedOptions().timeZone : undefined,
							})
						}
					/>
					only in the hours on call
				</label>
				{hours && (
					<>
						{days.map((d) => (
							<label key={d} className="flex items-center gap-1">
								<input
									type="checkbox"
									checked={hours.days.includes(d)}
									onChange={(e) =>
										setRule({
											...r,
											hours: [
												{ ...hours, days: days.filter((x) => (x === d ? e.target.checked : hours.days.includes(x))) },
											],
										})
									}
								/>
								{d}
							</label>
						))}
						{(["from", "to"] as const).map((side) => (
							<input
								key={side}
								type="time"
								aria-label={side}
								className="field w-28"
								value={hours[side]}
								onChange={(e) => setRule({ ...r, hours: [{ ...hours, [side]: e.target.value }] })}
							/>
						))}
						<span className="text-faint">{r.zone}</span>
					</>
				)}
			</div>
		</Editor>
	);
}
