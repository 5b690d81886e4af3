import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Labelled } from "../access/Door";
import { useMayEverywhere } from "../access/me";
import { answer, api, type Schemas } from "../api/client";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Ago } from "../parts/time";
import { Install } from "./Install";
import { LetIn } from "./LetIn";

/** Where devices are enrolled: a token for a site, and what to run on the device. */
export function Enrol() {
	const queries = useQueryClient();
	const tokens = useInfiniteQuery({
		queryKey: ["enrolment"],
		queryFn: ({ pageParam, signal }) =>
			answer(api.GET("/enrolment-tokens", { params: { query: { cursor: pageParam, limit: 50 } }, signal })),
		initialPageParam: undefined as string | undefined,
		getNextPageParam: (page) => page.next,
	});
	const rows = tokens.data?.pages.flatMap((p) => p.items) ?? [];
	const readAnew = () => queries.invalidateQueries({ queryKey: ["enrolment"] });
	const revoke = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/enrolment-tokens/{id}", { params: { path: { id } } })),
		onSuccess: readAnew,
	});
	return (
		<div className="mx-auto max-w-4xl space-y-7 px-5 py-5">
			<div>
				<h1 className="text-xl font-semibold">Add devices</h1>
				<p className="text-faint">
					Choose the site, and a token is made that lets a number of devices join it until it expires. The key that
					proves a device is made on it and never leaves it.
				</p>
			</div>
			<LetIn />
			<MakeToken onMade={readAnew} />
			<section aria-labelledby="tokens">
				<h2 id="tokens" className="mb-1 font-semibold">
					Tokens
				</h2>
				{revoke.isError && <ProblemAlert error={revoke.error} />}
				{tokens.isPending ? (
					<Waiting what="the tokens" />
				) : tokens.isError ? (
					<ProblemAlert error={tokens.error} retry={readAnew} />
				) : rows.length === 0 ? (
					<Empty title="There is no token yet.">Make one above.</Empty>
				) : (
					<table className="w-full border-collapse">
						<thead>
							<tr className="border-line border-b">
								<th scope="col" className="head py-1.5">
									Site
								</th>
								<th scope="col" className="head text-right">
									Used
								</th>
								<th scope="col" className="head pl-6">
									Made
								</th>
								<th scope="col" className="head">
									By
								</th>
								<th scope="col" className="head">
									State
								</th>
								<th scope="col" className="head">
									<span className="sr-only">Revoke</span>
								</th>
							</tr>
						</thead>
						<tbody>
							{rows.map((t) => (
								<tr key={t.id} className="border-line border-b">
									<td className="py-1.5">
										{t.site} <span className="text-faint text-sm">{t.organisation}</span>
									</td>
									<td className="text-right tabular-nums">
										{t.used} of {t.uses}
									</td>
									<td className="pl-6">
										<Ago at={t.created_at} />
									</td>
									<td>{t.created_by}</td>
									<td>{state(t)}</td>
									<td className="text-right">
										{state(t) === "valid" && (
											<button
												type="button"
												className="button-quiet"
												aria-label={`Revoke the token for ${t.site}`}
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
				{tokens.hasNextPage && (
					<button
						type="button"
						className="button-quiet mt-3"
						onClick={() => tokens.fetchNextPage()}
						disabled={tokens.isFetchingNextPage}
					>
						Show older
					</button>
				)}
			</section>
		</div>
	);
}

function state(t: Schemas["EnrolmentToken"]) {
	if (t.revoked_at) return "revoked";
	if (Date.parse(t.expires_at) < Date.now()) return "expired";
	return t.used >= t.uses ? "used up" : "valid";
}

function MakeToken({ onMade }: { onMade: () => void }) {
	const queries = useQueryClient();
	const manage = useMayEverywhere("fleet.manage");
	const sites = useQuery({
		queryKey: ["organisations"],
		queryFn: ({ signal }) => answer(api.GET("/organisations", { params: { query: { limit: 500 } }, signal })),
	});
	const [place, setPlace] = useState("");
	const [organisation, setOrganisation] = useState("");
	const [site, setSite] = useState("");
	const [uses, setUses] = useState(1);
	const [hours, setHours] = useState(24);
	const [approval, setApproval] = useState<boolean>();
	const asks = approval ?? uses > 1;
	const isNew = place === "new" || (sites.data?.items.length === 0 && manage);
	const make = useMutation({
		mutationFn: async () => {
			const where = isNew ? { organisation, site } : (JSON.parse(place) as { organisation: string; site: string });
			if (isNew) await answer(api.POST("/organisations", { body: where }));
			return answer(api.POST("/enrolment-tokens", { body: { ...where, uses, hours, approval: asks } }));
		},
		onSuccess: () => {
			onMade();
			if (isNew) queries.invalidateQueries({ queryKey: ["organisations"] });
		},
	});
	return (
		<div className="space-y-4">
			<form
				className="grid grid-cols-[minmax(14rem,1fr)_7rem_9rem_auto] items-end gap-3"
				onSubmit={(e) => {
					e.preventDefault();
					make.mutate();
				}}
			>
				<Labelled label="Site">
					<select className="field" required value={isNew ? "new" : place} onChange={(e) => setPlace(e.target.value)}>
						<option value="">Choose…</option>
						{sites.data?.items.map((o) => (
							<optgroup key={o.id} label={o.name}>
								{o.sites.map((s) => (
									<option key={s.id} value={JSON.stringify({ organisation: o.name, site: s.name })}>
										{s.name}
									</option>
								))}
							</optgroup>
						))}
						{manage && <option value="new">A new site…</option>}
					</select>
				</Labelled>
				<Labelled label="Devices">
					<input
						className="field"
						type="number"
						min={1}
						max={5000}
						required
						value={uses}
						onChange={(e) => setUses(e.target.valueAsNumber)}
					/>
				</Labelled>
				<Labelled label="Hours it holds">
					<input
						className="field"
						type="number"
						min={1}
						max={720}
						required
						value={hours}
						onChange={(e) => setHours(e.target.valueAsNumber)}
					/>
				</Labelled>
				<button type="submit" className="button" disabled={make.isPending}>
					Show how
				</button>
				<label className="col-span-4 flex items-center gap-2">
					<input type="checkbox" checked={asks} onChange={(e) => setApproval(e.target.checked)} />
					Devices wait here until somebody lets them in
				</label>
				{isNew && (
					<div className="col-span-4 grid grid-cols-2 gap-3">
						<Labelled label="Organisation">
							<input
								className="field"
								required
								maxLength={200}
								value={organisation}
								onChange={(e) => setOrganisation(e.target.value)}
							/>
						</Labelled>
						<Labelled label="Site of it">
							<input
								className="field"
								required
								maxLength={200}
								value={site}
								onChange={(e) => setSite(e.target.value)}
							/>
						</Labelled>
					</div>
				)}
			</form>
			{sites.isError && <ProblemAlert error={sites.error} />}
			{make.isError && <ProblemAlert error={make.error} />}
			{make.isSuccess && <Install token={make.data.secret} />}
		</div>
	);
}
