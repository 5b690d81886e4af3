import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { read, usePages, useReadAnew } from "../api/queries";
import { scopeText } from "../fleet/scope";
import { RowActions } from "../parts/Editor";
import { SelectField, TextField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Copyable } from "../parts/Secret";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { RuleEditor } from "./RuleEditor";

/** Who is told of which alerts: channels, rules, and what was told. */
export function Notices() {
	const channels = useQuery(read("/channels", { query: { limit: 500 } }));
	const readAnew = useReadAnew(["/channels", "/rules", "/deliveries"]);
	return (
		<div className="mx-auto max-w-5xl space-y-8 px-5 py-5">
			<div>
				<h1 className="text-xl font-semibold">Notices</h1>
				<p className="text-faint">A channel is where people or programs are told; a rule says of what, and when.</p>
			</div>
			<section>
				<h2 className="mb-1 text-lg font-semibold">Channels</h2>
				{channels.isPending && <Waiting what="the channels" />}
				{channels.isError && <ProblemAlert error={channels.error} retry={readAnew} />}
				{channels.data && channels.data.items.length > 0 && (
					<Table
						rows={channels.data.items}
						id={(c) => c.id}
						columns={[
							{ head: "Name", className: "font-medium", value: (c) => c.name },
							{ head: "Kind", show: (c) => (c.kind === "email" ? "e-mail" : c.kind) },
							{ head: "To", className: "break-all", value: (c) => c.target },
							{ head: "", actions: true, show: (c) => <ChannelActions channel={c} onChange={readAnew} /> },
						]}
					/>
				)}
				<NewChannel onDone={readAnew} />
			</section>
			<Rules channels={channels.data?.items ?? []} onChange={readAnew} />
			<Deliveries />
		</div>
	);
}

function ChannelActions({ channel: c, onChange }: { channel: Schemas["Channel"]; onChange: () => void }) {
	const test = useMutation({
		mutationFn: () => answer(api.POST("/channels/{id}/test", { params: { path: { id: c.id } } })),
	});
	const remove = useMutation({
		mutationFn: () => answer(api.DELETE("/channels/{id}", { params: { path: { id: c.id } } })),
		onSettled: onChange,
	});
	return (
		<>
			<button
				type="button"
				className="button-quiet"
				disabled={test.isPending}
				aria-label={`Test ${c.name}`}
				onClick={() => test.mutate()}
			>
				{test.isPending ? "Testing…" : "Test"}
			</button>
			<button type="button" className="button-quiet" aria-label={`Remove ${c.name}`} onClick={() => remove.mutate()}>
				Remove
			</button>
			{test.data && (
				<p role="status" className={test.data.sent ? "text-moss" : "text-rowan"}>
					{test.data.sent ? `It was taken: ${test.data.detail}` : test.data.detail}
				</p>
			)}
			{remove.isError && <ProblemAlert error={remove.error} />}
		</>
	);
}

function NewChannel({ onDone }: { onDone: () => void }) {
	const [name, setName] = useState("");
	const [kind, setKind] = useState<"email" | "webhook">("email");
	const [target, setTarget] = useState("");
	const add = useMutation({
		mutationFn: () => answer(api.POST("/channels", { body: { name, kind, target } })),
		onSuccess: () => {
			setName("");
			setTarget("");
			onDone();
		},
	});
	return (
		<form
			className="mt-3 space-y-2"
			onSubmit={(e) => {
				e.preventDefault();
				add.mutate();
			}}
		>
			<div className="flex flex-wrap items-end gap-3">
				<TextField label="New channel" required maxLength={200} placeholder="Name" value={name} onChange={setName} />
				<SelectField label="Kind" hidden className="w-32" value={kind} onChange={(v) => setKind(v)}>
					<option value="email">e-mail</option>
					<option value="webhook">webhook</option>
				</SelectField>
				<TextField
					label="To"
					hidden
					className="w-80"
					required
					placeholder={kind === "email" ? "duty@curlew-sedge.example" : "https://host/path"}
					value={target}
					onChange={setTarget}
				/>
				<button type="submit" className="button" disabled={add.isPending}>
					Add
				</button>
			</div>
			{add.isError && <ProblemAlert error={add.error} />}
			{add.data?.secret && (
				<div>
					<p className="text-faint">
						The secret that its messages are signed with, shown this once (RFC 9421, HMAC-SHA-256):
					</p>
					<Copyable text={add.data.secret} label="the secret" />
				</div>
			)}
		</form>
	);
}

function Rules({ channels, onChange }: { channels: Schemas["Channel"][]; onChange: () => void }) {
	const [edited, setEdited] = useState<Schemas["Rule"] | "new">();
	const rules = useQuery(read("/rules", { query: { limit: 500 } }));
	const remove = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/rules/{id}", { params: { path: { id } } })),
		onSettled: onChange,
	});
	return (
		<section>
			<div className="mb-1 flex items-center gap-3">
				<h2 className="text-lg font-semibold">Rules</h2>
				{channels.length > 0 && (
					<button type="button" className="button-quiet ml-auto" onClick={() => setEdited("new")}>
						New rule
					</button>
				)}
			</div>
			{edited && (
				<RuleEditor
					key={edited === "new" ? "new" : edited.id}
					rule={edited === "new" ? undefined : edited}
					channels={channels}
					onDone={() => {
						setEdited(undefined);
						onChange();
					}}
				/>
			)}
			{rules.isError && <ProblemAlert error={rules.error} retry={() => rules.refetch()} />}
			{rules.data?.items.length === 0 && (
				<Empty title="Nobody is told of anything yet.">
					{channels.length ? "A rule tells a channel of alerts." : "Add a channel first, then a rule."}
				</Empty>
			)}
			{rules.data && rules.data.items.length > 0 && (
				<Table
					rows={rules.data.items}
					id={(x) => x.id}
					columns={[
						{
							head: "Name",
							className: "font-medium",
							value: (x) => x.rule.name,
						},
						{
							head: "Of",
							value: (x) => scopeText(x.rule.scope, x.scope_name),
							show: (x) => scopeText(x.rule.scope, x.scope_name),
						},
						{
							head: "From",
							value: (x) => x.rule.least,
							show: (x) => (
								<>
									{x.rule.least}
									{x.rule.ends && ", and their end"}
								</>
							),
						},
						{
							head: "When",
							show: (x) =>
								x.rule.hours?.length
									? x.rule.hours.map((h) => `${h.days.join(" ")} ${h.from}–${h.to}`).join("; ")
									: "always",
						},
						{
							head: "Tells",
							value: (x) => x.channel_name,
							show: (x) => (
								<>
									{x.channel_name}
									{x.rule.digest_minutes ? `, gathered for ${x.rule.digest_minutes} min` : ""}
									{x.escalate_name ? `; ${x.escalate_name} after ${x.rule.escalate_minutes} min` : ""}
								</>
							),
						},
						{
							head: "",
							actions: true,
							show: (x) => (
								<RowActions
									name={x.rule.name}
									onChange={() => setEdited(rules.data.items.find((y) => y.id === x.id))}
									onRemove={() => remove.mutate(x.id)}
								/>
							),
						},
					]}
				/>
			)}
		</section>
	);
}

function Deliveries() {
	const list = usePages("/deliveries", { query: { limit: 30 } }, { refetchInterval: 10_000 });
	const rows = list.rows;
	return (
		<section>
			<h2 className="mb-1 text-lg font-semibold">What was told</h2>
			{rows.length === 0 ? (
				<p className="text-faint">Nothing yet.</p>
			) : (
				<Table
					rows={rows}
					list={list}
					id={(d) => d.id}
					columns={[
						{
							head: "When",
							className: "w-28 text-faint",
							value: (d) => d.created_at,
							show: (d) => <Ago at={d.created_at} />,
						},
						{ head: "To", className: "whitespace-nowrap", value: (d) => d.channel },
						{ head: "What", value: (d) => d.subject },
						{
							head: "State",
							value: (d) => d.state,
							show: (d) => (
								<>
									{d.state}
									{d.error && <span className="text-rowan"> {d.error}</span>}
								</>
							),
						},
					]}
				/>
			)}
		</section>
	);
}
