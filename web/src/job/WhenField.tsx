import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../api/client";
import { checksQuery } from "../health/alerts";
import { CheckField, SelectField, TextField } from "../parts/fields";
import { ruleText } from "../parts/rule";

type When = Schemas["JobWhen"];

const kinds = [
	["now", "now"],
	["at", "at a time"],
	["rule", "again and again"],
	["follow", "now, and on every device that is meant later"],
	["event", "each time that something happens"],
] as const;

const events: [string, string][] = [
	["enrolled", "a device is enrolled"],
	["online", "a device connects"],
	["signed-in", "somebody signs in"],
	["check", "a check begins to fail"],
];

const rules = [
	"FREQ=DAILY",
	"FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR",
	"FREQ=WEEKLY;BYDAY=SU",
	"FREQ=MONTHLY;BYDAY=2TU",
	"FREQ=MONTHLY;BYMONTHDAY=1",
].map((rule) => [rule, ruleText(rule)] as const);

/** What of a choice is kept, without the empty fields. */
export function whole(w: When): When {
	return Object.fromEntries(Object.entries(w).filter(([, v]) => v !== "" && v !== false && v !== undefined));
}

/** When a job's runs may begin. */
export function WhenField({
	when: w,
	at,
	onChange,
	onAt,
}: {
	when: When;
	at: string;
	onChange: (w: When) => void;
	onAt: (at: string) => void;
}) {
	const checks = useQuery(checksQuery).data?.items ?? [];
	const kind = w.rule ? "rule" : w.event ? "event" : w.follow ? "follow" : at ? "at" : "now";
	const bounds = { windows: w.windows, needs: w.needs };
	const local = () => {
		const t = new Date(Date.now() + 3600_000);
		t.setMinutes(t.getMinutes() - t.getTimezoneOffset(), 0, 0);
		return t.toISOString().slice(0, 16);
	};
	const choose = (k: string) => {
		onAt(k === "at" ? local() : "");
		onChange({
			...bounds,
			...(k === "rule" ? { rule: "FREQ=DAILY", start: `${local().slice(0, 10)}T22:00` } : {}),
			...(k === "event" ? { event: "enrolled" } : {}),
			...(k === "follow" ? { follow: true } : {}),
		});
	};
	return (
		<div className="flex flex-wrap items-end gap-3">
			<SelectField label="When" className="w-80" value={kind} onChange={choose}>
				{kinds.map(([k, word]) => (
					<option key={k} value={k}>
						{word}
					</option>
				))}
			</SelectField>
			{kind === "at" && (
				<TextField label="Time, of this browser" type="datetime-local" required value={at} onChange={onAt} />
			)}
			{kind === "rule" && (
				<>
					<SelectField
						label="How often"
						className="w-60"
						value={rules.some(([r]) => r === w.rule) ? w.rule : "own"}
						onChange={(v) => onChange({ ...w, rule: v === "own" ? "FREQ=WEEKLY;INTERVAL=2;BYDAY=TU" : v })}
					>
						{rules.map(([r, word]) => (
							<option key={r} value={r}>
								{word}
							</option>
						))}
						<option value="own">by a rule…</option>
					</SelectField>
					{!rules.some(([r]) => r === w.rule) && (
						<TextField
							label="Rule (RRULE, RFC 5545)"
							className="w-72 font-mono text-sm"
							value={w.rule}
							onChange={(v) => onChange({ ...w, rule: v })}
						/>
					)}
					<TextField
						label="From, by each device's own clock"
						type="datetime-local"
						required
						value={w.start ?? ""}
						onChange={(v) => onChange({ ...w, start: v })}
					/>
				</>
			)}
			{kind === "event" && (
				<SelectField
					label="What happens"
					className="w-60"
					value={w.event}
					onChange={(v) => onChange({ ...bounds, event: v })}
				>
					{events.map(([e, word]) => (
						<option key={e} value={e}>
							{word}
						</option>
					))}
				</SelectField>
			)}
			{w.event === "check" && (
				<SelectField
					label="Which check"
					className="w-60"
					value={w.check ?? ""}
					onChange={(v) => onChange({ ...w, check: v })}
				>
					<option value="">any</option>
					{checks.map((c) => (
						<option key={c.name} value={c.name}>
							{c.title}
						</option>
					))}
				</SelectField>
			)}
			<CheckField
				className="flex items-center gap-1.5 pb-1.5"
				checked={!!w.windows}
				onChange={(v) => onChange({ ...w, windows: v || undefined })}
			>
				in maintenance windows alone
			</CheckField>
			<TextField
				label="Only while this holds, if any"
				className="w-60 font-mono text-sm"
				placeholder="size(people) == 0"
				value={w.needs ?? ""}
				onChange={(v) => onChange({ ...w, needs: v })}
			/>
		</div>
	);
}

/** When a job runs, in words. */
export function whenText(w: When): string {
	const parts: string[] = [];
	if (w.rule)
		parts.push(`${ruleText(w.rule)}, from ${w.start?.replace("T", " ")} by ${w.zone ?? "each device's clock"}`);
	if (w.event)
		parts.push(`when ${events.find(([e]) => e === w.event)?.[1] ?? w.event}${w.check ? ` (${w.check})` : ""}`);
	if (w.follow) parts.push("on every device that is meant, later ones too");
	if (w.windows) parts.push("in maintenance windows");
	if (w.needs) parts.push(`while ${w.needs}`);
	return parts.join(", ");
}
