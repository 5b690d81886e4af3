import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../api/client";
import { Copyable } from "../parts/Secret";
import { Empty, Trouble, Waiting } from "../parts/Trouble";
import { Ago } from "../parts/time";
import { Labelled } from "./Door";

/** The signed-in person's API tokens. */
export function Tokens() {
	const queries = useQueryClient();
	const [name, setName] = useState("");
	const [days, setDays] = useState(90);
	const tokens = useQuery({
		queryKey: ["tokens"],
		queryFn: ({ signal }) => answer(api.GET("/tokens", { params: { query: { limit: 500 } }, signal })),
	});
	const readAnew = () => queries.invalidateQueries({ queryKey: ["tokens"] });
	const add = useMutation({
		mutationFn: () => answer(api.POST("/tokens", { body: { name, days } })),
		onSuccess: readAnew,
	});
	const revoke = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/tokens/{id}", { params: { path: { id } } })),
		onSuccess: readAnew,
	});
	return (
		<section aria-label="API tokens" className="space-y-4">
			<div>
				<h2 className="text-lg font-semibold">API tokens</h2>
				<p className="text-faint">
					A token lets a program do what you may do. Its secret is shown once, when it is made.
				</p>
			</div>
			<form
				className="flex items-end gap-3"
				onSubmit={(e) => {
					e.preventDefault();
					add.mutate();
				}}
			>
				<div className="w-72">
					<Labelled label="What is it for?">
						<input className="field" required maxLength={200} value={name} onChange={(e) => setName(e.target.value)} />
					</Labelled>
				</div>
				<div className="w-32">
					<Labelled label="Days it holds">
						<input
							className="field"
							type="number"
							min={1}
							max={365}
							required
							value={days}
							onChange={(e) => setDays(e.target.valueAsNumber)}
						/>
					</Labelled>
				</div>
				<button type="submit" className="button" disabled={add.isPending}>
					Make a token
				</button>
			</form>
			{add.isError && <Trouble error={add.error} />}
			{add.isSuccess && <Copyable text={add.data.secret} label="the token" />}
			{revoke.isError && <Trouble error={revoke.error} />}
			{tokens.isPending ? (
				<Waiting what="your tokens" />
			) : tokens.isError ? (
				<Trouble error={tokens.error} retry={readAnew} />
			) : tokens.data.items.length === 0 ? (
				<Empty title="You have no token.">Make one above, or run moor sign-in, which makes its own.</Empty>
			) : (
				<table className="w-full border-collapse">
					<thead>
						<tr className="border-line border-b">
							{["Name", "Made", "Last used", "Holds until", ""].map((h) => (
								<th key={h} scope="col" className="head py-1.5">
									{h}
								</th>
							))}
						</tr>
					</thead>
					<tbody>
						{tokens.data.items.map((t) => (
							<tr key={t.id} className="border-line border-b">
								<td className="py-1.5 font-medium">{t.name}</td>
								<td>
									<Ago at={t.created_at} />
								</td>
								<td>{t.last_used_at ? <Ago at={t.last_used_at} /> : "never"}</td>
								<td>
									{t.revoked_at
										? "revoked"
										: new Date(t.expires_at).toLocaleDateString("en-GB", {
												day: "numeric",
												month: "short",
												year: "numeric",
											})}
								</td>
								<td className="text-right">
									{!t.revoked_at && (
										<button
											type="button"
											className="button-quiet"
											aria-label={`Revoke ${t.name}`}
											onClick={() => revoke.mutate(t.id)}
										>
											Revoke
										</button>
									)}
								</td>
							</tr>
						))}
					</tbody>
				</table>
			)}
		</section>
	);
}
