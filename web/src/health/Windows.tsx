import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { useMay } from "../api/me";
import { read, useReadAnew } from "../api/queries";
import { type Scope, ScopeField, scopeText } from "../fleet/scope";
import { Editor as EditorForm, RowActions } from "../parts/Editor";
import { NumberField, SelectField, TextField } from "../parts/fields";
import { ProblemAlert } from "../parts/ProblemAlert";
import { ruleText } from "../parts/rule";
import { Table } from "../parts/Table";
import { span } from "../parts/time";

const repeats = [
	{ name: "once", rule: "" },
	{ name: "every day", rule: "FREQ=DAILY" },
	{ name: "every week", rule: "FREQ=WEEKLY" },
	{ name: "every month", rule: "FREQ=MONTHLY" },
];

/** Maintenance windows: alerts in them are kept, and told to nobody. */
export function Windows() {
	const may = useMay("policy.manage");
	const [open, setOpen] = useState(false);
	const windows = useQuery(read("/maintenance-windows", { query: { limit: 500 } }));
	const readAnew = useReadAnew("/maintenance-windows");
	const remove = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/maintenance-windows/{id}", { params: { path: { id } } })),
		onSettled: readAnew,
	});
	return (
		<section className="mt-8">
			<div className="mb-1 flex items-center gap-3">
				<h2 className="text-lg font-semibold">Maintenance windows</h2>
				<p className="text-faint">
					In each device's own time. Findings are kept; alerts are told when the window is over.
				</p>
				{may && !open && (
					<button type="button" className="button-quiet ml-auto" onClick={() => setOpen(true)}>
						New window
					</button>
				)}
			</div>
			{open && (
				<Editor
					onDone={() => {
						setOpen(false);
						readAnew();
					}}
				/>
			)}
			{remove.isError && <ProblemAlert error={remove.error} />}
			{windows.data && windows.data.items.length > 0 && (
				<Table
					rows={windows.data.items}
					id={(w) => w.id}
					columns={[
						{ head: "Name", className: "font-medium", value: (w) => w.name },
						{
							head: "Set for",
							value: (w) => scopeText(w.scope, w.scope_name),
							show: (w) => scopeText(w.scope, w.scope_name),
						},
						{ head: "First", show: (w) => w.span.start.replace("T", " ") },
						{ head: "Repeats", value: (w) => ruleText(w.span.rule) },
						{ head: "Lasts", show: (w) => span(w.span.minutes * 60) },
						{
							head: "",
							actions: true,
							show: (w) => may && <RowActions name={w.name} onRemove={() => remove.mutate(w.id)} />,
						},
					]}
				/>
			)}
		</section>
	);
}

function Editor({ onDone }: { onDone: () => void }) {
	const [name, setName] = useState("");
	const [scope, setScope] = useState<Scope>({ kind: "everywhere" });
	const [window_, setWindow] = useState<Schemas["WindowSpan"]>({ start: "", rule: "FREQ=WEEKLY", minutes: 120 });
	const save = useMutation({
		mutationFn: () => answer(api.POST("/maintenance-windows", { body: { name, scope, span: window_ } })),
		onSuccess: onDone,
	});
	return (
		<EditorForm save={save} onCancel={onDone}>
			<div className="flex flex-wrap items-end gap-4">
				<TextField label="Name of the window" required maxLength={200} value={name} onChange={setName} />
				<ScopeField scope={scope} onChange={setScope} />
				<TextField
					label="First start"
					type="datetime-local"
					required
					value={window_.start}
					onChange={(v) => setWindow({ ...window_, start: v })}
				/>
				<SelectField label="Repeats" value={window_.rule} onChange={(v) => setWindow({ ...window_, rule: v })}>
					{repeats.map((r) => (
						<option key={r.rule} value={r.rule}>
							{r.name}
						</option>
					))}
				</SelectField>
				<NumberField
					label="Minutes"
					className="w-24"
					min={1}
					max={10080}
					value={window_.minutes}
					onChange={(v) => setWindow({ ...window_, minutes: v || 1 })}
				/>
			</div>
		</EditorForm>
	);
}
