import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Labelled } from "../access/Door";
import { answer, api, type Schemas } from "../api/client";
import { RowActions } from "../parts/Editor";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Copyable } from "../parts/Secret";
import { More, Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { usePages } from "../parts/usePages";
import { RuleEditor } from "./RuleEditor";
import { scopeText } from "./scope";

/** Who is told of which alerts: channels, rules, and what was told. */
export function Notices() {
	const queries = useQueryClient();
	const channels = useQuery({
		queryKey: ["channels"],
		queryFn: ({ signal }) => answer(api.GET("/channels", { params: { query: { limit: 500 } }, signal })),
	});
	const readAnew = () => {
		for (const key of ["channels", "rules", "deliveries"]) queries.invalidateQueries({ queryKey: [key] });
	};
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
					<Table heads={["Name", "Kind", "To", ""]}>
						{channels.data.items.map((c) => (
							<Channel key={c.id} channel={c} onChange={readAnew} />
						))}
					</Table>
				)}
				<NewChannel onDone={readAnew} />
			</section>
			<Rules channels={channels.data?.items ?? []} onChange={readAnew} />
			<Deliveries />
		</div>
	);
}

function Channel({ channel: c, onChange }: { channel: Schemas["Channel"]; onChange: () => void }) {
	const test = useMutation({
		mutationFn: () => answer(api.POST("/channels/{id}/test", { params: { path: { id: c.id } } })),
	});
	const remove = useMutation({
		mutationFn: () => answer(api.DELETE("/channels/{id}", { params: { path: { id: c.id } } })),
		onSettled: onChange,
	});
	return (
		<tr className="border-line border-b align-top">
			<td className="py-1.5 pr-4 font-medium">{c.name}</td>
			<td className="py-1.5 pr-4">{c.kind === "email" ? "e-mail" : c.kind}</td>
			<td className="py-1.5 pr-4 break-all">{c.target}</td>
			<td className="py-1 text-right">
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
			</td>
		</tr>
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
				<Labelled label="New channel">
					<input
						className="field"
						required
						maxLength={200}
						placeholder="Name"
						value={name}
						onChange={(e) => setName(e.target.value)}
					/>
				</Labelled>
				<select
					aria-label="Kind"
					className="field w-32"
					value={kind}
					onChange={(e) => setKind(e.target.value as typeof kind)}
				>
					<option value="email">e-mail</option>
					<option value="webhook">webhook</option>
				</select>
				<input
					aria-label="To"
					className="field w-80"
					required
					placeholder={kind === "email" ? "duty@curlew-sedge.example" : "https://host/path"}
					value={target}
					onChange={(e) => setTarget(e.target.value)}
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
	const rules = useQuery({
		queryKey: ["rules"],
		queryFn: ({ signal }) => answer(api.GET("/rules", { params: { query: { limit: 500 } }, signal })),
	});
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
				<Table heads={["Name", "Of", "From", "When", "Tells", ""]}>
					{rules.data.items.map(({ id, rule: r, channel_name, escalate_name, scope_name }) => (
						<tr key={id} className="border-line border-b align-top">
							<td className="py-1.5 pr-4 font-medium">{r.name}</td>
							<td className="py-1.5 pr-4">{scopeText(r.scope, scope_name)}</td>
							<td className="py-1.5 pr-4">
								{r.least}
								{r.ends && ", and their end"}
							</td>
							<td className="py-1.5 pr-4">
								{r.hours?.length ? r.hours.map((h) => `${h.days.join(" ")} ${h.from}–${h.to}`).join("; ") : "always"}
							</td>
							<td className="py-1.5 pr-4">
								{channel_name}
								{r.digest_minutes ? `, gathered for ${r.digest_minutes} min` : ""}
								{escalate_name ? `; ${escalate_name} after ${r.escalate_minutes} min` : ""}
							</td>
							<td className="py-1 text-right whitespace-nowrap">
								<RowActions
									name={r.name}
									onChange={() => setEdited(rules.data.items.find((x) => x.id === id))}
									onRemove={() => remove.mutate(id)}
								/>
							</td>
						</tr>
					))}
				</Table>
			)}
		</section>
	);
}

function Deliveries() {
	const list = usePages(
		["deliveries"],
		(cursor, signal) => answer(api.GET("/deliveries", { params: { query: { cursor, limit: 30 } }, signal })),
		10_000,
	);
	const rows = list.rows;
	return (
		<section>
			<h2 className="mb-1 text-lg font-semibold">What was told</h2>
			{rows.length === 0 ? (
				<p className="text-faint">Nothing yet.</p>
			) : (
				<Table heads={["When", "To", "What", "State"]}>
					{rows.map((d) => (
						<tr key={d.id} className="border-line border-b align-top">
							<td className="w-28 py-1 pr-4 text-faint">
								<Ago at={d.created_at} />
							</td>
							<td className="py-1 pr-4 whitespace-nowrap">{d.channel}</td>
							<td className="py-1 pr-4">{d.subject}</td>
							<td className="py-1">
								{d.state}
								{d.error && <span className="text-rowan"> {d.error}</span>}
							</td>
						</tr>
					))}
				</Table>
			)}
			<More list={list} />
		</section>
	);
}
