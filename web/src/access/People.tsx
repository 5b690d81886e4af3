import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { meQuery } from "../api/me";
import { read, usePages, useReadAnew } from "../api/queries";
import { ScopeField, scopeText } from "../fleet/scope";
import { Confirm } from "../parts/Confirm";
import { Choice, Editor } from "../parts/Editor";
import { useEdited } from "../parts/edited";
import { SelectField, TextField } from "../parts/fields";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Copyable } from "../parts/Secret";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { Roles, useRoles } from "./Roles";
import { PersonTokens } from "./Tokens";

type Person = Schemas["Person"];
type Grant = Schemas["Grant"];

const views = ["People", "Roles"] as const;

/** Who may sign in, what they may do where, and what signing in asks of them. */
export function People() {
	const [view, setView] = useState<(typeof views)[number]>("People");
	return (
		<div className="mx-auto max-w-6xl px-5 py-5">
			<div className="mb-1 flex items-baseline gap-4">
				<h1 className="text-xl font-semibold">{view}</h1>
				<div role="toolbar" aria-label="View">
					<Choice of={views} chosen={view} name={(v) => v} onChoose={setView} />
				</div>
				<Policy />
			</div>
			{view === "People" ? <Persons /> : <Roles />}
		</div>
	);
}

/** What signing in asks of everybody. */
function Policy() {
	const queries = useQueryClient();
	const policy = useQuery(read("/sign-in-policy"));
	const set = useMutation({
		mutationFn: (body: Schemas["SignInPolicy"]) => answer(api.PUT("/sign-in-policy", { body })),
		onSuccess: (p) => queries.setQueryData(read("/sign-in-policy").queryKey, p),
	});
	if (!policy.data) return null;
	return (
		<div className="ml-auto text-right">
			<label className="inline-flex items-center gap-2">
				A second factor is
				<select
					className="field w-32"
					value={policy.data.second_factor}
					disabled={set.isPending}
					onChange={(e) => set.mutate({ second_factor: e.target.value as "optional" | "required" })}
				>
					<option value="optional">optional</option>
					<option value="required">required</option>
				</select>
			</label>
			<label className="ml-4 inline-flex items-center gap-2">
				Signed out after
				<select
					className="field w-36"
					value={policy.data.idle_minutes}
					disabled={set.isPending}
					onChange={(e) =>
						set.mutate({ second_factor: policy.data.second_factor, idle_minutes: Number(e.target.value) })
					}
				>
					{[...new Set([15, 30, 60, 120, 240, 480, 720, policy.data.idle_minutes ?? 60])]
						.sort((a, b) => a - b)
						.map((m) => (
							<option key={m} value={m}>
								{m % 60 === 0 ? `${m / 60} h idle` : `${m} min idle`}
							</option>
						))}
				</select>
			</label>
			{set.isError && <ProblemAlert error={set.error} />}
		</div>
	);
}

function Persons() {
	const me = useQuery(meQuery).data;
	const [edited, setEdited] = useEdited<Person>();
	const [tokensOf, setTokensOf] = useState<Person>();
	const [link, setLink] = useState<{ link: string; person: Person }>();
	const list = usePages("/people", { query: { limit: 200 } });
	const again = useReadAnew("/people");
	const remove = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/people/{id}", { params: { path: { id } } })),
		onSettled: again,
	});
	const reset = useMutation({
		mutationFn: (id: string) => answer(api.POST("/people/{id}/link", { params: { path: { id } } })),
		onSuccess: setLink,
		onSettled: again,
	});
	const out = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/people/{id}/sign-ins", { params: { path: { id } } })),
		onSettled: again,
	});
	const failed = remove.error ?? reset.error ?? out.error;
	return (
		<>
			<p className="mb-4 text-faint">
				Who may sign in, and which role they hold where. What they did is in the audit log.
			</p>
			{!edited && (
				<button type="button" className="button mb-4" onClick={() => setEdited("new")}>
					Add a person
				</button>
			)}
			{edited && (
				<PersonForm
					key={edited === "new" ? "new" : edited.id}
					person={edited === "new" ? undefined : edited}
					onDone={(made) => {
						setEdited(undefined);
						setLink(made);
						again();
					}}
				/>
			)}
			{link && (
				<div className="mb-4 max-w-3xl" role="status">
					<p className="mb-1">
						Hand this to {link.person.name}. It opens once, within three days, and is not shown again.
					</p>
					<Copyable text={link.link} label="the set-up link" />
				</div>
			)}
			{tokensOf && <PersonTokens key={tokensOf.id} person={tokensOf} onClose={() => setTokensOf(undefined)} />}
			{failed && <ProblemAlert error={failed} />}
			{list.isPending && <Waiting what="the people" />}
			{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
			{list.rows.length > 0 && (
				<Table
					rows={list.rows}
					list={list}
					id={(p) => p.id}
					columns={[
						{
							head: "Name",
							value: (p) => p.name,
							show: (p) => (
								<>
									<span className="font-medium">{p.name}</span>
									{p.id === me?.id && <span className="text-faint"> (you)</span>}
									<br />
									<span className="text-faint text-sm">{p.email}</span>
								</>
							),
						},
						{ head: "Roles", show: (p) => <GrantWords all={p.grants} /> },
						{
							head: "Second factor",
							show: (p) => (p.second_factor ? "yes" : <span className="text-faint">none</span>),
						},
						{
							head: "Last seen",
							value: (p) => p.last_seen_at,
							show: (p) => (p.last_seen_at ? <Ago at={p.last_seen_at} /> : p.ready ? "never" : "has not set up yet"),
						},
						{
							head: "",
							actions: true,
							show: (p) => (
								<>
									<button
										type="button"
										className="button-quiet"
										aria-label={`Change ${p.name}`}
										onClick={() => setEdited(p)}
									>
										Change
									</button>
									<button
										type="button"
										className="button-quiet"
										aria-label={`API tokens of ${p.name}`}
										onClick={() => setTokensOf(p)}
									>
										Tokens
									</button>
									<Confirm
										label="Sign out"
										title={`Sign ${p.name} out?`}
										verb="Sign out everywhere"
										onDo={() => out.mutate(p.id)}
									>
										Every browser in which they are signed in, every API token, and whatever they have open at a device.
									</Confirm>
									<Confirm
										label="New link"
										title={`Make a new set-up link for ${p.name}?`}
										verb="Make it"
										onDo={() => reset.mutate(p.id)}
									>
										Their password, second factors and API tokens stop to hold at once, and they are signed out.
									</Confirm>
									<Confirm label="Remove" title={`Remove ${p.name}?`} verb="Remove" onDo={() => remove.mutate(p.id)}>
										They are out at once: sign-ins, API tokens and what they have open at devices end. Their jobs,
										rollouts and reports wait until somebody adopts them. What they did stays on record.
									</Confirm>
								</>
							),
						},
					]}
				/>
			)}
		</>
	);
}

/** Roles with where they are held. */
export function GrantWords({ all }: { all: Grant[] }) {
	return (
		<ul>
			{all.map((g, i) => (
				<li key={i}>
					{g.role} <span className="text-faint">{scopeText(g.scope, g.scope_name ?? "")}</span>
				</li>
			))}
		</ul>
	);
}

function PersonForm({
	person,
	onDone,
}: {
	person?: Person;
	onDone: (made?: { link: string; person: Person }) => void;
}) {
	const roles = useRoles().data?.items ?? [];
	const [name, setName] = useState(person?.name ?? "");
	const [email, setEmail] = useState("");
	const [grants, setGrants] = useState<Grant[]>(
		person?.grants ?? [{ role: "technician", scope: { kind: "everywhere" } }],
	);
	const save = useMutation({
		mutationFn: async () => {
			const body = { name, grants: grants.map(({ role, scope }) => ({ role, scope })) };
			if (!person) return answer(api.POST("/people", { body: { ...body, email } }));
			await answer(api.PUT("/people/{id}", { params: { path: { id: person.id } }, body }));
		},
		onSuccess: onDone,
	});
	const put = (i: number, g: Grant) => setGrants(grants.with(i, g));
	return (
		<Editor save={save} ready={grants.length > 0} onCancel={() => onDone()}>
			<div className="flex flex-wrap gap-3">
				<div className="w-72">
					<TextField label="Name" required maxLength={200} value={name} onChange={setName} />
				</div>
				{!person && (
					<div className="w-80">
						<TextField label="E-mail" type="email" required maxLength={320} value={email} onChange={setEmail} />
					</div>
				)}
			</div>
			<fieldset className="space-y-2">
				<legend className="mb-1 font-medium">Roles</legend>
				{grants.map((g, i) => (
					<div key={i} className="flex items-center gap-2">
						<SelectField
							label="Role"
							hidden
							className="w-48"
							value={g.role}
							onChange={(v) => put(i, { ...g, role: v })}
						>
							{roles.map((r) => (
								<option key={r.name} value={r.name}>
									{r.name}
								</option>
							))}
						</SelectField>
						<ScopeField scope={g.scope} not="device" onChange={(scope) => put(i, { role: g.role, scope })} />
						<button
							type="button"
							className="button-quiet"
							aria-label={`Take away the role ${g.role}`}
							disabled={grants.length === 1}
							onClick={() => setGrants(grants.toSpliced(i, 1))}
						>
							Take away
						</button>
						<span className="truncate text-faint text-sm">{roles.find((r) => r.name === g.role)?.about}</span>
					</div>
				))}
				<button
					type="button"
					className="button-quiet"
					onClick={() => setGrants([...grants, { role: "viewer", scope: { kind: "everywhere" } }])}
				>
					Another role
				</button>
			</fieldset>
		</Editor>
	);
}
