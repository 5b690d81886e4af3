import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { useMay } from "../api/me";
import { read, useReadAnew } from "../api/queries";
import { type Scope, ScopeField, scopeText } from "../fleet/scope";
import { Editor as EditorForm, RowActions } from "../parts/Editor";
import { useEdited } from "../parts/edited";
import { SelectField, TextField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { AgentField, agentText } from "./AgentField";
import { checksQuery } from "./alerts";
import { outcomeText, ResponseField, stepText, useLibrary } from "./ResponseField";
import { SettingField, usual } from "./SettingField";
import { type Setting, settingText } from "./setting";
import { Windows } from "./Windows";

type Policy = Schemas["Policy"];

/** Policies: what devices are judged by, and when they are left in peace. */
export function Policies() {
	const may = useMay("policy.manage");
	const kinds = useQuery(checksQuery).data?.items ?? [];
	const library = useLibrary();
	const [edited, setEdited] = useEdited<Policy>();
	const policies = useQuery(read("/policies", { query: { limit: 500 } }));
	const readAnew = useReadAnew("/policies");
	const remove = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/policies/{id}", { params: { path: { id } } })),
		onSettled: readAnew,
	});
	return (
		<div className="mx-auto max-w-6xl px-5 py-5">
			<div className="mb-3 flex flex-wrap items-center gap-x-3 gap-y-1">
				<h1 className="text-xl font-semibold">Policies</h1>
				<p className="text-faint">
					The nearest policy wins: device before group, site, organisation and everywhere; then the usual settings.
				</p>
				{may && (
					<button type="button" className="button ml-auto whitespace-nowrap" onClick={() => setEdited("new")}>
						New policy
					</button>
				)}
			</div>
			{edited && (
				<Editor
					key={edited === "new" ? "new" : edited.id}
					policy={edited === "new" ? undefined : edited}
					onDone={() => {
						setEdited(undefined);
						readAnew();
					}}
				/>
			)}
			{remove.isError && <ProblemAlert error={remove.error} />}
			{policies.isPending ? (
				<Waiting what="the policies" />
			) : policies.isError ? (
				<ProblemAlert error={policies.error} retry={readAnew} />
			) : policies.data.items.length === 0 ? (
				<Empty title="There is no policy yet.">
					Every device is judged by the usual settings below. A policy changes them for a site, a group or all.
				</Empty>
			) : (
				<Table
					rows={policies.data.items}
					id={(y) => y.id}
					columns={[
						{ head: "Name", className: "font-medium", value: (y) => y.name },
						{
							head: "Set for",
							value: (y) => scopeText(y.scope, y.scope_name),
							show: (y) => scopeText(y.scope, y.scope_name),
						},
						{
							head: "Checks, what is wanted, and responses",
							show: (y) => (
								<ul>
									{y.settings.map((s) => {
										const kind = kinds.find((k) => k.name === s.check);
										return (
											<li key={`${s.check} ${s.subject} ${s.pattern}`}>
												{[kind?.title ?? s.check, s.subject].filter(Boolean).join(" ")}:{" "}
												<span className="text-faint">{settingText(s, kind?.unit)}</span>
											</li>
										);
									})}
									{y.responses?.map((r) => (
										<li key={r.name}>
											<span className="text-heather">↳ {r.name}</span>{" "}
											<span className="text-faint">
												{kinds.find((k) => k.name === r.check)?.title ?? r.check} {r.subject}:{" "}
												{r.steps.map((step) => stepText(step, library)).join(", then ")};{" "}
												{outcomeText(y.outcomes?.find((o) => o.name === r.name))}
											</span>
										</li>
									))}
									{agentText(y.agent) && <li className="text-faint">Its agent {agentText(y.agent)}</li>}
								</ul>
							),
						},
						{
							head: "Changed",
							className: "text-faint",
							value: (y) => y.changed_at,
							show: (y) => <Ago at={y.changed_at} />,
						},
						{
							head: "",
							actions: true,
							show: (y) =>
								may && <RowActions name={y.name} onChange={() => setEdited(y)} onRemove={() => remove.mutate(y.id)} />,
						},
					]}
				/>
			)}
			<p className="mt-8">
				Whether the person at a device is told or asked when somebody works on it:{" "}
				<Link to="/consent" className="link underline">
					consent
				</Link>
				.
			</p>
			<Windows />
			<section className="mt-8">
				<h2 className="mb-1 text-lg font-semibold">Usual settings</h2>
				<p className="mb-2 text-faint">What holds where no policy says otherwise.</p>
				<Table
					rows={kinds}
					id={(k) => k.name}
					columns={[
						{ head: "Check", value: (k) => k.title },
						{ head: "About", className: "text-faint", value: (k) => k.about },
						{
							head: "Usual setting",
							show: (k) =>
								k.usual ? (
									settingText(k.usual, k.unit)
								) : (
									<span className="text-faint">none until a policy sets one</span>
								),
						},
					]}
				/>
			</section>
		</div>
	);
}

function Editor({ policy, onDone }: { policy?: Policy; onDone: () => void }) {
	const kinds = useQuery(checksQuery).data?.items ?? [];
	const [name, setName] = useState(policy?.name ?? "");
	const [scope, setScope] = useState<Scope>(policy?.scope ?? { kind: "everywhere" });
	const library = useLibrary();
	const [settings, setSettings] = useState<Setting[]>(policy?.settings ?? []);
	const [responses, setResponses] = useState<Schemas["Response"][]>(policy?.responses ?? []);
	const [agent, setAgent] = useState<Schemas["AgentBehaviour"] | undefined>(
		agentText(policy?.agent) ? policy?.agent : undefined,
	);
	const save = useMutation({
		mutationFn: () => {
			const body = { name, scope, settings, responses, agent: agent ?? {} };
			return policy
				? answer(api.PUT("/policies/{id}", { params: { path: { id: policy.id } }, body }))
				: answer(api.POST("/policies", { body }));
		},
		onSuccess: onDone,
	});
	const put = (i: number, s?: Setting) => setSettings(settings.flatMap((old, n) => (n === i ? (s ? [s] : []) : [old])));
	return (
		<EditorForm save={save} ready={settings.length + responses.length > 0 || !!agentText(agent)} onCancel={onDone}>
			<div className="flex flex-wrap items-end gap-4">
				<div className="w-72">
					<TextField label="Name of the policy" required maxLength={200} value={name} onChange={setName} />
				</div>
				<ScopeField scope={scope} onChange={setScope} />
			</div>
			{settings.map((s, i) => (
				<SettingField
					key={i}
					setting={s}
					kind={kinds.find((k) => k.name === s.check)}
					scope={scope}
					onChange={(next) => put(i, next)}
					onRemove={() => put(i)}
				/>
			))}
			{responses.map((r, i) => (
				<ResponseField
					key={i}
					response={r}
					kinds={kinds}
					library={library}
					outcome={policy?.outcomes?.find((o) => o.name === r.name)}
					onChange={(next) => setResponses(responses.map((old, n) => (n === i ? next : old)))}
					onRemove={() => setResponses(responses.filter((_, n) => n !== i))}
				/>
			))}
			{agent && <AgentField agent={agent} onChange={setAgent} />}
			<SelectField
				label="Add a check"
				hidden
				className="w-72"
				value=""
				onChange={(v) => {
					const kind = kinds.find((k) => k.name === v);
					if (kind) setSettings([...settings, usual(kind)]);
				}}
			>
				<option value="">Add a check…</option>
				{[...new Set(kinds.map((k) => k.about))].map((about) => (
					<optgroup key={about} label={about}>
						{kinds
							.filter((k) => k.about === about)
							.map((k) => (
								<option key={k.name} value={k.name}>
									{k.title}
								</option>
							))}
					</optgroup>
				))}
			</SelectField>{" "}
			<button
				type="button"
				className="button-quiet border border-line"
				onClick={() =>
					setResponses([
						...responses,
						{
							name: `Response ${responses.length + 1}`,
							check: settings[0]?.check ?? "service",
							subject: settings[0]?.subject ?? "",
							steps: [{ do: "restart-service", watch: 600 }],
						},
					])
				}
			>
				Add a response
			</button>{" "}
			{!agent && (
				<button type="button" className="button-quiet border border-line" onClick={() => setAgent({})}>
					Say how agents behave
				</button>
			)}
		</EditorForm>
	);
}
