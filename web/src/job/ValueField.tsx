import type { Schemas } from "../api/client";

/** The field of one parameter. */
export function ValueField({
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
