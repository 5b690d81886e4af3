import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { meQuery } from "../api/me";
import { read, useReadAnew } from "../api/queries";
import { ScopeField } from "../fleet/scope";
import { CheckField, NumberField, TextField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Copyable } from "../parts/Secret";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";

type Token = Schemas["Token"];

/** The signed-in person's API tokens. */
export function Tokens() {
	const tokens = useQuery(read("/tokens", { query: { limit: 500 } }));
	const readAnew = useReadAnew("/tokens");
	const revoke = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/tokens/{id}", { params: { path: { id } } })),
		onSuccess: readAnew,
	});
	return (
		<section aria-label="API tokens" className="space-y-4">
			<div>
				<h2 className="text-lg font-semibold">API tokens</h2>
				<p className="text-faint">
					A token lets a program do what you may do, or less. Its secret is shown once, when it is made. All your tokens
					end with a new password.
				</p>
			</div>
			<NewToken onMade={readAnew} />
			{revoke.isError && <ProblemAlert error={revoke.error} />}
			{tokens.isPending ? (
				<Waiting what="your tokens" />
			) : tokens.isError ? (
				<ProblemAlert error={tokens.error} retry={readAnew} />
			) : tokens.data.items.length === 0 ? (
				<Empty title="You have no token.">Make one above, or run moor sign-in, which makes its own.</Empty>
			) : (
				<TokenTable all={tokens.data.items} onRevoke={(id) => revoke.mutate(id)} />
			)}
		</section>
	);
}

/** The API tokens of somebody else, for those who manage people. */
export function PersonTokens({ person, onClose }: { person: Schemas["Person"]; onClose: () => void }) {
	const readAnew = useReadAnew("/people/{id}/tokens", { id: person.id });
	const path = { id: person.id };
	const tokens = useQuery(read("/people/{id}/tokens", { path, query: { limit: 500 } }));
	const revoke = useMutation({
		mutationFn: (token: string) =>
			answer(api.DELETE("/people/{id}/tokens/{token}", { params: { path: { ...path, token } } })),
		onSettled: readAnew,
	});
	return (
		<section aria-label={`API tokens of ${person.name}`} className="mb-6 rounded border border-line p-4">
			<div className="mb-2 flex items-baseline justify-between">
				<h2 className="font-semibold text-lg">API tokens of {person.name}</h2>
				<button type="button" className="button-quiet" onClick={onClose}>
					Close
				</button>
			</div>
			{revoke.isError && <ProblemAlert error={revoke.error} />}
			{tokens.isPending ? (
				<Waiting what="their tokens" />
			) : tokens.isError ? (
				<ProblemAlert error={tokens.error} retry={() => tokens.refetch()} />
			) : tokens.data.items.length === 0 ? (
				<p className="text-faint">They have made none.</p>
			) : (
				<TokenTable all={tokens.data.items} onRevoke={(id) => revoke.mutate(id)} />
			)}
		</section>
	);
}

/** What a new token is for, how long it holds, and what it may do at the most. */
function NewToken({ onMade }: { onMade: () => void }) {
	const me = useQuery(meQuery).data;
	const [name, setName] = useState("");
	const [days, setDays] = useState(90);
	const [scope, setScope] = useState<Schemas["Scope"]>({ kind: "everywhere" });
	const [chosen, setChosen] = useState<string[]>();
	const add = useMutation({
		mutationFn: () =>
			answer(
				api.POST("/tokens", {
					body: { name, days, permissions: chosen, scope: scope.kind === "everywhere" ? undefined : scope },
				}),
			),
		onSuccess: onMade,
	});
	const placed = scope.kind === "everywhere" || !!scope.id;
	return (
		<>
			<form
				className="space-y-3"
				onSubmit={(e) => {
					e.preventDefault();
					add.mutate();
				}}
			>
				<div className="flex flex-wrap items-end gap-3">
					<div className="w-72">
						<TextField label="What is it for?" required maxLength={200} value={name} onChange={setName} />
					</div>
					<div className="w-32">
						<NumberField label="Days it holds" min={1} max={365} required value={days} onChange={setDays} />
					</div>
					<button
						type="submit"
						className="button"
						disabled={add.isPending || !placed || (chosen !== undefined && chosen.length === 0)}
					>
						Make a token
					</button>
				</div>
				<details>
					<summary className="cursor-pointer text-faint">
						It may do {chosen ? `${chosen.length} of what you may` : "all that you may"}
						{scope.kind !== "everywhere" && ", in one place"}
					</summary>
					<div className="mt-2 space-y-3">
						<fieldset className="flex items-center gap-2">
							<legend className="float-left mr-2">Where</legend>
							<ScopeField scope={scope} onChange={setScope} />
						</fieldset>
						<CheckField checked={chosen === undefined} onChange={(v) => setChosen(v ? undefined : ["fleet.read"])}>
							All that you may do
						</CheckField>
						{chosen && (
							<fieldset className="grid grid-cols-[repeat(auto-fill,minmax(13rem,1fr))] gap-1">
								<legend className="sr-only">Permissions</legend>
								{me?.permissions.map((p) => (
									<CheckField
										key={p}
										checked={chosen.includes(p)}
										onChange={(v) => setChosen(v ? [...chosen, p] : chosen.filter((x) => x !== p))}
									>
										{p}
									</CheckField>
								))}
							</fieldset>
						)}
					</div>
				</details>
			</form>
			{add.isError && <ProblemAlert error={add.error} />}
			{add.isSuccess && <Copyable text={add.data.secret} label="the token" />}
		</>
	);
}

function TokenTable({ all, onRevoke }: { all: Token[]; onRevoke: (id: string) => void }) {
	return (
		<Table
			rows={all}
			id={(t) => t.id}
			columns={[
				{ head: "Name", className: "font-medium", value: (t) => t.name },
				{ head: "Limited to", title: (t) => t.permissions?.join(", "), className: "text-sm", show: (t) => limit(t) },
				{ head: "Made", value: (t) => t.created_at, show: (t) => <Ago at={t.created_at} /> },
				{
					head: "Last used",
					value: (t) => t.last_used_at,
					show: (t) => (t.last_used_at ? <Ago at={t.last_used_at} /> : "never"),
				},
				{
					head: "Holds until",
					show: (t) =>
						t.revoked_at
							? "revoked"
							: new Date(t.expires_at).toLocaleDateString("en-GB", {
									day: "numeric",
									month: "short",
									year: "numeric",
								}),
				},
				{
					head: "",
					actions: true,
					show: (t) =>
						!t.revoked_at && (
							<button
								type="button"
								className="button-quiet"
								aria-label={`Revoke ${t.name}`}
								onClick={() => onRevoke(t.id)}
							>
								Revoke
							</button>
						),
				},
			]}
		/>
	);
}

/** What a token may do at the most, in a few words. */
function limit(t: Token) {
	const all = t.permissions ?? [];
	const what = all.length > 3 ? `${all.slice(0, 3).join(", ")} and ${all.length - 3} more` : all.join(", ");
	return [what, t.scope && `at one ${t.scope.kind}`].filter(Boolean).join(" ") || "all that its owner may";
}
