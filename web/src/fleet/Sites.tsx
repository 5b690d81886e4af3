import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { answer, api } from "../api/client";
import { useMayEverywhere } from "../api/me";
import { AskLine } from "../parts/Confirm";
import { Heading } from "../parts/Heading";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { useDevices } from "./devices";
import { useOrganisations } from "./organisations";

/** Organisations and their sites: how many devices stand where, and their names. */
export function Sites() {
	const list = useOrganisations();
	const devices = useDevices().data;
	const may = useMayEverywhere("fleet.manage");
	const queries = useQueryClient();
	const rename = useMutation({
		mutationFn: ({ path, id, name }: { path: "/organisations/{id}" | "/sites/{id}"; id: string; name: string }) =>
			answer(api.PUT(path, { params: { path: { id } }, body: { name } })),
		onSuccess: () => queries.invalidateQueries(), // names of places stand in most lists
	});
	const rows = (list.data?.items ?? []).flatMap((o) =>
		o.sites.map((s, at) => ({ id: s.id, name: s.name, organisation: o.name, of: o.id, first: at === 0 })),
	);
	const count = (organisation: string, site: string) => {
		let n = 0;
		for (const d of devices?.values() ?? []) if (d.organisation === organisation && d.site === site) n++;
		return n;
	};
	const ask = (label: string, path: "/organisations/{id}" | "/sites/{id}", id: string, name: string) => (
		<AskLine
			label={label}
			title={`Another name for ${name}`}
			verb="Rename it"
			field="Name"
			usual={name}
			onDo={(text) => rename.mutate({ path, id, name: text })}
		/>
	);
	return (
		<div>
			<Heading title="Sites" />
			<div className="max-w-5xl px-5 py-3">
				{list.isPending && <Waiting what="the sites" />}
				{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
				{rename.isError && <ProblemAlert error={rename.error} />}
				{list.data && rows.length === 0 && (
					<Empty title="There is no site yet.">
						<Link to="/enrol" className="link">
							Add a device
						</Link>
						: its site is made with it.
					</Empty>
				)}
				{rows.length > 0 && (
					<Table
						label="Sites"
						rows={rows}
						id={(r) => r.id}
						file="sites"
						columns={[
							{
								head: "Site",
								className: "font-medium",
								value: (r) => r.name,
								show: (r) => (
									<Link className="link" to={`/devices?site=${encodeURIComponent(`${r.name}@${r.organisation}`)}`}>
										{r.name}
									</Link>
								),
							},
							{ head: "Organisation", value: (r) => r.organisation },
							{ head: "Devices", right: true, value: (r) => count(r.organisation, r.name) },
							may && {
								head: "",
								actions: true,
								show: (r) => (
									<>
										{r.first && ask("Rename the organisation", "/organisations/{id}", r.of, r.organisation)}
										{ask("Rename", "/sites/{id}", r.id, r.name)}
									</>
								),
							},
						]}
					/>
				)}
			</div>
		</div>
	);
}
