import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { useMayEverywhere } from "../api/me";
import { usePages, useReadAnew } from "../api/queries";
import { CheckField, NumberField, SelectField, TextField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { Install } from "./Install";
import { LetIn } from "./LetIn";
import { type Place, SiteOptions, useOrganisations } from "./organisations";

/** Where devices are enrolled: a token for a site, and what to run on the device. */
export function Enrol() {
	const tokens = usePages("/enrolment-tokens", { query: { limit: 50 } });
	const readAnew = useReadAnew("/enrolment-tokens");
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
			<MakeToken />
			<section aria-labelledby="tokens">
				<h2 id="tokens" className="mb-1 font-semibold">
					Tokens
				</h2>
				{revoke.isError && <ProblemAlert error={revoke.error} />}
				{tokens.isPending ? (
					<Waiting what="the tokens" />
				) : tokens.isError ? (
					<ProblemAlert error={tokens.error} retry={readAnew} />
				) : tokens.rows.length === 0 ? (
					<Empty title="There is no token yet.">Make one above.</Empty>
				) : (
					<Table
						rows={tokens.rows}
						id={(t) => t.id}
						columns={[
							{
								head: "Site",
								value: (t) => t.site,
								show: (t) => (
									<>
										{t.site} <span className="text-faint text-sm">{t.organisation}</span>
									</>
								),
							},
							{
								head: "Used",
								right: true,
								value: (t) => t.used,
								show: (t) => (
									<>
										{t.used} of {t.uses}
									</>
								),
							},
							{ head: "Made", value: (t) => t.created_at, show: (t) => <Ago at={t.created_at} /> },
							{ head: "By", value: (t) => t.created_by },
							{ head: "State", show: (t) => state(t) },
							{
								head: "",
								actions: true,
								show: (t) =>
									state(t) === "valid" && (
										<button
											type="button"
											className="button-quiet"
											aria-label={`Revoke the token for ${t.site}`}
											onClick={() => revoke.mutate(t.id)}
										>
											Revoke
										</button>
									),
							},
						]}
					/>
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

function MakeToken() {
	const readAnew = useReadAnew(["/enrolment-tokens", "/organisations"]);
	const manage = useMayEverywhere("fleet.manage");
	const sites = useOrganisations();
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
			const where = isNew ? { organisation, site } : (JSON.parse(place) as Place);
			if (isNew) await answer(api.POST("/organisations", { body: where }));
			return answer(api.POST("/enrolment-tokens", { body: { ...where, uses, hours, approval: asks } }));
		},
		onSuccess: readAnew,
	});
	return (
		<div className="space-y-4">
			<form
				className="grid grid-cols-2 items-end gap-3 sm:grid-cols-[minmax(14rem,1fr)_7rem_9rem_auto]"
				onSubmit={(e) => {
					e.preventDefault();
					make.mutate();
				}}
			>
				<SelectField label="Site" required value={isNew ? "new" : place} onChange={setPlace}>
					<option value="">Choose…</option>
					<SiteOptions />
					{manage && <option value="new">A new site…</option>}
				</SelectField>
				<NumberField label="Devices" min={1} max={5000} required value={uses} onChange={setUses} />
				<NumberField label="Hours it holds" min={1} max={720} required value={hours} onChange={setHours} />
				<button type="submit" className="button" disabled={make.isPending}>
					Show how
				</button>
				<CheckField className="col-span-4 flex items-center gap-2" checked={asks} onChange={setApproval}>
					Devices wait here until somebody lets them in
				</CheckField>
				{isNew && (
					<div className="col-span-4 grid grid-cols-2 gap-3">
						<TextField label="Organisation" required maxLength={200} value={organisation} onChange={setOrganisation} />
						<TextField label="Site of it" required maxLength={200} value={site} onChange={setSite} />
					</div>
				)}
			</form>
			{sites.isError && <ProblemAlert error={sites.error} />}
			{make.isError && <ProblemAlert error={make.error} />}
			{make.isSuccess && <Install token={make.data.secret} />}
		</div>
	);
}
