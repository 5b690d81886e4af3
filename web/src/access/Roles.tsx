import { useMutation, useQuery } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { read, useReadAnew } from "../api/queries";
import { Confirm } from "../parts/Confirm";
import { Editor } from "../parts/Editor";
import { TextField } from "../parts/fields";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";

type Role = Schemas["RoleEntry"];

/** The roles there are, and every permission. */
export function useRoles() {
	return useQuery(read("/roles"));
}

const levels = ["see", "read", "act", "administer"] as const;

/** The permissions of tools, tool after tool, and the others. */
function sorted(all: Schemas["PermissionEntry"][]) {
	const tools = new Map<string, Set<string>>();
	const general: Schemas["PermissionEntry"][] = [];
	for (const p of all) {
		const [tool = "", level = ""] = p.name.split(".");
		if (!(levels as readonly string[]).includes(level)) general.push(p);
		else tools.set(tool, (tools.get(tool) ?? new Set()).add(level));
	}
	return { tools, general };
}

/** The roles: those built in, and those of one's own, which can be changed. */
export function Roles() {
	const readAnew = useReadAnew("/roles");
	const roles = useRoles();
	const [edited, setEdited] = useState<Role | "new">();
	const remove = useMutation({
		mutationFn: (name: string) => answer(api.DELETE("/roles/{name}", { params: { path: { name } } })),
		onSettled: () => readAnew(),
	});
	if (roles.isPending) return <Waiting what="the roles" />;
	if (roles.isError) return <ProblemAlert error={roles.error} retry={() => roles.refetch()} />;
	const { tools, general } = sorted(roles.data.permissions);
	return (
		<>
			<p className="mb-4 text-faint">
				A role is a set of permissions. A person holds it everywhere, or at an organisation, a site or a group.
			</p>
			{!edited && (
				<button type="button" className="button mb-4" onClick={() => setEdited("new")}>
					New role
				</button>
			)}
			{edited && (
				<RoleForm
					key={edited === "new" ? "new" : edited.name}
					role={edited === "new" ? undefined : edited}
					all={roles.data.permissions}
					onDone={() => {
						setEdited(undefined);
						readAnew();
					}}
				/>
			)}
			{remove.isError && <ProblemAlert error={remove.error} />}
			<Table
				rows={roles.data.items}
				id={(r) => r.name}
				columns={[
					{
						head: "Role",
						className: "w-64",
						value: (r) => r.name,
						show: (r) => (
							<>
								<span className="font-medium">{r.name}</span>
								<br />
								<span className="text-faint text-sm">{r.about}</span>
							</>
						),
					},
					{ head: "Tools", show: (r) => <ToolWords role={r} tools={tools} /> },
					{
						head: "Beside tools",
						className: "w-72 text-sm",
						show: (r) =>
							general.every((p) => r.permissions.includes(p.name))
								? "Everything"
								: general
										.filter((p) => r.permissions.includes(p.name))
										.map((p) => p.about)
										.join("; "),
					},
					{ head: "People", className: "tabular-nums", value: (r) => r.people },
					{
						head: "",
						actions: true,
						show: (r) =>
							!r.built_in && (
								<>
									<button
										type="button"
										className="button-quiet"
										aria-label={`Change ${r.name}`}
										onClick={() => setEdited(r)}
									>
										Change
									</button>
									<Confirm
										label="Remove"
										title={`Remove the role ${r.name}?`}
										verb="Remove"
										onDo={() => remove.mutate(r.name)}
									>
										Nobody may hold it.
									</Confirm>
								</>
							),
					},
				]}
			/>
		</>
	);
}

/** With which tools a role goes how far: the highest level of each. */
function ToolWords({ role, tools }: { role: Role; tools: Map<string, Set<string>> }) {
	const most = levels.toReversed().map((level) => ({
		level,
		tools: [...tools.keys()].filter(
			(t) =>
				role.permissions.includes(`${t}.${level}`) &&
				!levels.slice(levels.indexOf(level) + 1).some((above) => role.permissions.includes(`${t}.${above}`)),
		),
	}));
	const some = most.filter((m) => m.tools.length > 0);
	if (some.length === 0) return <span className="text-faint">none</span>;
	return (
		<dl className="grid grid-cols-[6rem_1fr] text-sm">
			{some.map((m) => (
				<Fragment key={m.level}>
					<dt className="text-faint">{m.level}</dt>
					<dd>{m.tools.join(", ")}</dd>
				</Fragment>
			))}
		</dl>
	);
}

function RoleForm({ role, all, onDone }: { role?: Role; all: Schemas["PermissionEntry"][]; onDone: () => void }) {
	const { tools, general } = sorted(all);
	const [name, setName] = useState<string>(role?.name ?? "");
	const [about, setAbout] = useState(role?.about ?? "");
	const [chosen, setChosen] = useState(new Set<string>(role?.permissions));
	const save = useMutation({
		mutationFn: () =>
			answer(api.PUT("/roles/{name}", { params: { path: { name } }, body: { about, permissions: [...chosen] } })),
		onSuccess: onDone,
	});
	const box = (p: string, label: string) => (
		<input
			type="checkbox"
			className="size-4 accent-heather"
			aria-label={label}
			checked={chosen.has(p)}
			onChange={(e) => {
				const next = new Set(chosen);
				if (e.target.checked) next.add(p);
				else next.delete(p);
				setChosen(next);
			}}
		/>
	);
	return (
		<Editor save={save} ready={chosen.size > 0} onCancel={onDone}>
			<div className="flex flex-wrap gap-3">
				<div className="w-64">
					<TextField
						label="Name"
						hint="Small letters, digits and hyphens."
						required
						pattern="[a-z][a-z0-9\-]{1,39}"
						disabled={role !== undefined}
						value={name}
						onChange={setName}
					/>
				</div>
				<div className="w-96">
					<TextField label="What it is for" maxLength={300} value={about} onChange={setAbout} />
				</div>
			</div>
			<div className="flex flex-wrap gap-10">
				<table>
					<thead>
						<tr>
							<th className="head pr-6">Tool</th>
							{levels.map((l) => (
								<th key={l} className="head px-3">
									{l}
								</th>
							))}
						</tr>
					</thead>
					<tbody>
						{[...tools].map(([tool, has]) => (
							<tr key={tool}>
								<th scope="row" className="pr-6 text-left font-normal">
									{tool}
								</th>
								{levels.map((l) => (
									<td key={l} className="px-3 py-0.5 text-center">
										{has.has(l) && box(`${tool}.${l}`, `${l} with ${tool}`)}
									</td>
								))}
							</tr>
						))}
					</tbody>
				</table>
				<ul className="space-y-1">
					{general.map((p) => (
						<li key={p.name}>
							{/* biome-ignore lint/a11y/noLabelWithoutControl: the control is the child */}
							<label className="flex items-center gap-2">
								{box(p.name, p.about)}
								{p.about}
							</label>
						</li>
					))}
				</ul>
			</div>
			<p className="text-faint text-sm">Acting includes seeing, and administering includes acting.</p>
		</Editor>
	);
}
