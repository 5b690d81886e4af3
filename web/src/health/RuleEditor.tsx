import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { ScopeField } from "../fleet/scope";
import { Editor } from "../parts/Editor";
import { CheckField, NumberField, SelectField, TextField } from "../parts/fields";

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
		<SelectField label={label} className="w-56" value={value} onChange={onChange}>
			{none && <option value="">{none}</option>}
			{channels.map((c) => (
				<option key={c.id} value={c.id}>
					{c.name}
				</option>
			))}
		</SelectField>
	);
	const minutes = (label: string, value: number | undefined, onChange: (n: number) => void) => (
		<NumberField label={label} className="w-28" min={0} value={value ?? 0} onChange={(v) => onChange(v || 0)} />
	);
	return (
		<Editor save={save} onCancel={onDone}>
			<div className="flex flex-wrap items-end gap-4">
				<TextField
					label="Name of the rule"
					required
					maxLength={200}
					value={r.name}
					onChange={(v) => setRule({ ...r, name: v })}
				/>
				<ScopeField scope={r.scope} onChange={(scope) => setRule({ ...r, scope })} />
				<SelectField label="From" value={r.least} onChange={(v) => setRule({ ...r, least: v })}>
					<option>notice</option>
					<option>warning</option>
					<option>critical</option>
				</SelectField>
				<CheckField
					className="flex items-center gap-1.5 pb-2"
					checked={r.ends}
					onChange={(v) => setRule({ ...r, ends: v })}
				>
					their end, too
				</CheckField>
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
				<CheckField
					className="flex items-center gap-1.5"
					checked={hours !== undefined}
					onChange={(v) =>
						setRule({
							...r,
							hours: v ? [{ days: ["MO", "TU", "WE", "TH", "FR"], from: "08:00", to: "18:00" }] : undefined,
							zone: v ? Intl.DateTimeFormat().resolvedOptions().timeZone : undefined,
						})
					}
				>
					only in the hours on call
				</CheckField>
				{hours && (
					<>
						{days.map((d) => (
							<CheckField
								key={d}
								className="flex items-center gap-1"
								checked={hours.days.includes(d)}
								onChange={(v) =>
									setRule({
										...r,
										hours: [{ ...hours, days: days.filter((x) => (x === d ? v : hours.days.includes(x))) }],
									})
								}
							>
								{d}
							</CheckField>
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
