import type { Schemas } from "../api/client";
import { CheckField } from "../parts/fields";

type Agent = Schemas["AgentBehaviour"];

// What a policy may have an agent withhold, as its facts name it.
const capabilities = [
	"commands",
	"shell",
	"files",
	"processes",
	"services",
	"events",
	"network",
	"power",
	"people",
	"settings",
	"queries",
	"screen",
	"packages",
	"updates",
];

/** How the agents of devices behave. */
export function AgentField({ agent: a, onChange }: { agent: Agent; onChange: (a: Agent) => void }) {
	const withheld = a.withhold ?? [];
	return (
		<fieldset className="rounded-md border border-line bg-raised p-3">
			<legend className="px-1 font-medium">How agents behave</legend>
			<label className="flex items-center gap-1.5">
				<span className="text-faint">report every, s</span>
				<input
					type="number"
					min={10}
					max={3600}
					placeholder="30"
					className="field w-20"
					value={a.report_seconds || ""}
					onChange={(e) => onChange({ ...a, report_seconds: e.target.valueAsNumber || undefined })}
				/>
			</label>
			<CheckField
				className="mt-2 flex items-center gap-1.5"
				checked={a.protect ?? false}
				onChange={(v) => onChange({ ...a, protect: v || undefined })}
			>
				is taken off its device with a removal code alone
			</CheckField>
			<div className="mt-2 flex flex-wrap gap-x-4 gap-y-1">
				<span className="text-faint">do not offer</span>
				{capabilities.map((c) => (
					<CheckField
						key={c}
						className="flex items-center gap-1.5"
						checked={withheld.includes(c)}
						onChange={(v) => {
							const next = v ? [...withheld, c] : withheld.filter((o) => o !== c);
							onChange({ ...a, withhold: next.length > 0 ? next : undefined });
						}}
					>
						{c}
					</CheckField>
				))}
			</div>
		</fieldset>
	);
}

/** How agents behave, in words; empty where nothing is said. */
export function agentText(a?: Agent) {
	const parts = [];
	if (a?.report_seconds) parts.push(`reports every ${a.report_seconds} s`);
	if (a?.protect) parts.push("is taken off its device with a removal code alone");
	if (a?.withhold?.length) parts.push(`does not offer ${a.withhold.join(", ")}`);
	return parts.join(", ");
}
