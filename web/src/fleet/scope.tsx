import type { Schemas } from "../api/client";
import { SelectField } from "../parts/fields";
import { useDevices } from "./devices";
import { useGroups } from "./Groups";
import { useOrganisations } from "./organisations";

export type Scope = Schemas["Scope"];

const kinds = ["everywhere", "organisation", "site", "group", "device"] as const;

/** Chooses what a policy, rule or window is set for. */
export function ScopeField({
	scope,
	not,
	onChange,
}: {
	scope: Scope;
	not?: Scope["kind"];
	onChange: (s: Scope) => void;
}) {
	const organisations = useOrganisations().data?.items;
	const groups = useGroups().data?.items;
	const devices = useDevices().data;
	const choices: { id: string; name: string }[] =
		scope.kind === "organisation"
			? (organisations ?? [])
			: scope.kind === "site"
				? (organisations ?? []).flatMap((o) => o.sites.map((s) => ({ id: s.id, name: `${s.name}, ${o.name}` })))
				: scope.kind === "group"
					? (groups ?? [])
					: scope.kind === "device"
						? [...(devices?.values() ?? [])].toSorted((a, b) => a.name.localeCompare(b.name))
						: [];
	return (
		<div className="flex gap-2">
			<SelectField label="Set for" hidden className="w-40" value={scope.kind} onChange={(v) => onChange({ kind: v })}>
				{kinds
					.filter((k) => k !== not)
					.map((k) => (
						<option key={k} value={k}>
							{k}
						</option>
					))}
			</SelectField>
			{scope.kind !== "everywhere" && (
				<SelectField
					label={`Which ${scope.kind}`}
					hidden
					className="w-72"
					required
					value={scope.id ?? ""}
					onChange={(v) => onChange({ kind: scope.kind, id: v })}
				>
					<option value="">Which {scope.kind}?</option>
					{choices.map((c) => (
						<option key={c.id} value={c.id}>
							{c.name}
						</option>
					))}
				</SelectField>
			)}
		</div>
	);
}

/** What something is set for, in words. */
export function scopeText(scope: Scope, name: string) {
	return scope.kind === "everywhere" ? "everywhere" : `${scope.kind} ${name}`;
}
