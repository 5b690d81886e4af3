import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { useMayEverywhere } from "../api/me";
import { read, useReadAnew } from "../api/queries";
import { Editor as EditorForm, RowActions } from "../parts/Editor";
import { useEdited } from "../parts/edited";
import { AreaField, SelectField, TextField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { useDevices } from "./devices";
import { Expression } from "./Expression";
import { useOrganisations } from "./organisations";

type Group = Schemas["Group"];

export function useGroups() {
	return useQuery(read("/groups", { query: { limit: 500 } }));
}

/** Groups of devices: by an expression, or by name. */
export function Groups() {
	const groups = useGroups();
	const organisations = useOrganisations().data?.items;
	const may = useMayEverywhere("group.manage");
	const [edited, setEdited] = useEdited<Group>();
	const readAnew = useReadAnew("/groups/*");
	const remove = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/groups/{id}", { params: { path: { id } } })),
		onSettled: readAnew,
	});
	return (
		<div className="mx-auto max-w-5xl px-5 py-5">
			<div className="mb-3 flex flex-wrap items-center gap-x-3 gap-y-1">
				<h1 className="text-xl font-semibold">Groups</h1>
				<p className="text-faint">
					A group can stand wherever devices are chosen: in policies, windows, rules and sweeps.
				</p>
				{may && (
					<button type="button" className="button ml-auto" onClick={() => setEdited("new")}>
						New group
					</button>
				)}
			</div>
			{edited && (
				<Editor
					key={edited === "new" ? "new" : edited.id}
					group={edited === "new" ? undefined : edited}
					onDone={() => {
						setEdited(undefined);
						readAnew();
					}}
				/>
			)}
			{remove.isError && <ProblemAlert error={remove.error} />}
			{groups.isPending ? (
				<Waiting what="the groups" />
			) : groups.isError ? (
				<ProblemAlert error={groups.error} retry={readAnew} />
			) : groups.data.items.length === 0 ? (
				<Empty title="There is no group yet.">
					Make one of all devices that an expression holds for, or of some by name.
				</Empty>
			) : (
				<Table
					rows={groups.data.items}
					id={(g) => g.id}
					columns={[
						{ head: "Name", className: "font-medium", value: (g) => g.name },
						{
							head: "Devices",
							className: "tabular-nums",
							value: (g) => g.devices,
							show: (g) => (
								<Link className="link" to={`/devices?group=${encodeURIComponent(g.name)}`}>
									{g.devices}
								</Link>
							),
						},
						{
							head: "Of",
							className: "whitespace-nowrap",
							show: (g) =>
								organisations?.find((o) => o.id === g.organisation)?.name ?? (
									<span className="text-faint">every organisation</span>
								),
						},
						{
							head: "Which",
							show: (g) => (
								<>
									<span className="font-mono text-sm">{g.expression || "by name"}</span>
									{g.reported.length > 0 && <Reported facts={g.reported} />}
								</>
							),
						},
						{
							head: "",
							actions: true,
							show: (g) =>
								may && <RowActions name={g.name} onChange={() => setEdited(g)} onRemove={() => remove.mutate(g.id)} />,
						},
					]}
				/>
			)}
		</div>
	);
}

/** Says that a group rests on what devices say of themselves, about which they can lie. */
function Reported({ facts }: { facts: string[] }) {
	return (
		<p
			className="text-faint text-sm"
			title="No role is held and no secret given by this group: a device can lie about itself."
		>
			rests on what devices say of themselves: {facts.join(", ")}
		</p>
	);
}

/** How the choice of every organisation is written, beside the identities of single ones. */
const every = "every";

function Editor({ group, onDone }: { group?: Group; onDone: () => void }) {
	const devices = useDevices().data;
	const [name, setName] = useState(group?.name ?? "");
	const [dynamic, setDynamic] = useState(group ? group.expression !== "" : true);
	const [expression, setExpression] = useState(group?.expression ?? "");
	const organisations = useOrganisations().data?.items;
	const [of, setOf] = useState(group ? (group.organisation ?? every) : "");
	const whose = of || (organisations?.length === 1 ? (organisations[0]?.id ?? "") : "");
	const [typed, setTyped] = useState((group?.members ?? []).map((id) => devices?.get(id)?.name ?? id).join("\n"));
	const save = useMutation({
		mutationFn: () => {
			const byName = new Map([...(devices?.values() ?? [])].map((d) => [d.name.toLowerCase(), d.id]));
			const lines = typed
				.split(/[\n,]/)
				.map((s) => s.trim())
				.filter(Boolean);
			const unknown = lines.filter((n) => !byName.has(n.toLowerCase()));
			if (!dynamic && unknown.length) throw new Error(`There is no device ${unknown.join(", ")}.`);
			const body = {
				name,
				...(whose === every ? { global: true } : { organisation: whose }),
				...(dynamic ? { expression } : { members: lines.map((n) => byName.get(n.toLowerCase()) ?? "") }),
			};
			return group
				? answer(api.PUT("/groups/{id}", { params: { path: { id: group.id } }, body }))
				: answer(api.POST("/groups", { body }));
		},
		onSuccess: onDone,
	});
	return (
		<EditorForm save={save} ready={whose !== "" && (!dynamic || expression.trim() !== "")} onCancel={onDone}>
			<div className="flex flex-wrap items-end gap-4">
				<div className="w-72">
					<TextField label="Name of the group" required maxLength={200} value={name} onChange={setName} />
				</div>
				<div className="w-64">
					<SelectField label="Whose devices" required value={whose} onChange={setOf}>
						<option value="" disabled>
							choose an organisation
						</option>
						{organisations?.map((o) => (
							<option key={o.id} value={o.id}>
								{o.name}
							</option>
						))}
						<option value={every}>every organisation</option>
					</SelectField>
				</div>
				{[true, false].map((d) => (
					<label key={String(d)} className="flex items-center gap-1.5 whitespace-nowrap pb-2">
						<input type="radio" name="kind" checked={dynamic === d} onChange={() => setDynamic(d)} />
						{d ? "all for which an expression holds" : "these, by name"}
					</label>
				))}
			</div>
			{dynamic ? (
				<Expression label="Expression" value={expression} onChange={setExpression} />
			) : (
				<AreaField
					label="Devices"
					hidden
					rows={4}
					placeholder="A name on each line"
					value={typed}
					onChange={setTyped}
				/>
			)}
		</EditorForm>
	);
}
