import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../api/client";
import { read, usePages } from "../api/queries";
import { Choice } from "../parts/Editor";
import { Heading } from "../parts/Heading";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { AdvisoryLink, Attacked, Badness } from "./words";

const kinds = ["all", "exploited"] as const;

/** What is known to be weak in the fleet's software, what is attacked first. */
export function Advisories() {
	const [params, setParams] = useSearchParams();
	const device = params.get("device") ?? undefined;
	const [search, setSearch] = useState("");
	const [kind, setKind] = useState<(typeof kinds)[number]>("all");
	const list = usePages(
		"/advisories",
		{
			query: {
				limit: 100,
				search: search || undefined,
				exploited: kind === "exploited" || undefined,
				device,
			},
		},
		{ refetchInterval: 60_000 },
	);
	const one = useQuery({ ...read("/devices/{id}", { path: { id: device ?? "" } }), enabled: !!device });
	return (
		<div>
			<Heading title="Advisories">
				{device && (
					<span className="ml-auto flex items-center gap-2">
						about <strong>{one.data?.device.name ?? "a device"}</strong>
						<button type="button" className="button-quiet" onClick={() => setParams({}, { replace: true })}>
							All devices
						</button>
					</span>
				)}
				<input
					className={`field w-56 py-1 ${device ? "" : "ml-auto"}`}
					type="search"
					placeholder="Id, software or words"
					aria-label="Search advisories"
					value={search}
					onChange={(e) => setSearch(e.target.value)}
				/>
			</Heading>
			<div className="px-5 py-4">
				<div className="mb-3 flex flex-wrap items-center gap-4">
					<span className="flex flex-wrap gap-1">
						<Choice of={kinds} chosen={kind} name={(k) => k} onChoose={setKind} />
					</span>
					<Feeds />
				</div>
				{list.isPending && <Waiting what="the advisories" />}
				{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
				{list.data && list.rows.length === 0 && (
					<Empty
						title={
							search || kind !== "all" ? "No such advisory is about this fleet." : "No advisory is about this fleet."
						}
					>
						{search || kind !== "all"
							? "Only advisories about installed software are listed."
							: "Import a feed in the OSV or CSAF format, or a folder of such files: moor advisories import --feed NAME FILE. Software is compared with it at once and whenever it changes."}
					</Empty>
				)}
				{list.rows.length > 0 && (
					<Table
						rows={list.rows}
						list={list}
						id={(a) => a.id}
						columns={[
							{
								head: "Weakness",
								className: "max-w-md",
								value: (a) => a.summary,
								show: (a) => (
									<>
										<span className="font-medium">{a.summary}</span>
										<span className="block text-faint text-sm">
											<AdvisoryLink id={a.id} />
											{a.aliases.length > 0 && ` · ${a.aliases.slice(0, 4).join(", ")}`}
										</span>
									</>
								),
							},
							{ head: "How bad", show: (a) => <HowBad of={a} /> },
							{ head: "Software", show: (a) => a.packages.join(", ") },
							{
								head: "Devices",
								className: "tabular-nums",
								value: (a) => a.devices,
								show: (a) => (
									<Link className="link" to={`/advisories/${encodeURIComponent(a.id)}`}>
										{a.devices}
									</Link>
								),
							},
							{ head: "Published", value: (a) => a.published, show: (a) => a.published && <Ago at={a.published} /> },
							{ head: "What mends it", show: (a) => <Mends of={a} /> },
						]}
					/>
				)}
			</div>
		</div>
	);
}

/** The score of a weakness, and whether it is attacked. */
export function HowBad({ of: a }: { of: Schemas["Advisory"] }) {
	return (
		<>
			<Badness severity={a.severity}>
				<span className="tabular-nums">{a.score > 0 ? a.score.toFixed(1) : "not scored"}</span>
				{a.exploited && <Attacked />}
			</Badness>
			{a.exploited?.since && (
				<span className="block text-faint text-sm">
					since <Ago at={a.exploited.since} />
				</span>
			)}
		</>
	);
}

/** The updates that mend a weakness. */
export function Mends({ of: a }: { of: Schemas["Advisory"] }) {
	if (a.updates.length === 0)
		return <span className="text-gorse">{a.devices > 0 ? "no update is offered" : "nothing to do"}</span>;
	return (
		<ul>
			{a.updates.map((u) => (
				<li key={`${u.source} ${u.name} ${u.to}`}>
					{u.name} {u.to}
					<span className="text-faint">
						, missing at{" "}
						<Link className="link underline" to={`/exposure?missing=${encodeURIComponent(u.name)}`}>
							{u.devices}
						</Link>
					</span>
				</li>
			))}
		</ul>
	);
}

/** From which feeds the advisories are, and how fresh those are. */
function Feeds() {
	const feeds = useQuery({
		...read("/advisory-feeds", { query: { limit: 20 } }),
		refetchInterval: (q) => ((q.state.data?.items[0]?.pending ?? 0) > 0 ? 2_000 : 60_000),
	});
	if (!feeds.data) return null;
	const pending = feeds.data.items[0]?.pending ?? 0;
	return (
		<p className="flex flex-wrap gap-x-4 text-faint text-sm">
			{feeds.data.items.map((f) => (
				<span key={f.name}>
					{f.name}:{" "}
					{[f.advisories && `${f.advisories} advisories`, f.exploited && `${f.exploited} exploited`]
						.filter(Boolean)
						.join(", ") || "nothing"}
					, imported <Ago at={f.imported_at} />
					{f.refused > 0 && (
						<span className="text-gorse" title={f.refusals.join("\n")}>
							, {f.refused} refused
						</span>
					)}
				</span>
			))}
			{pending > 0 && <span className="text-heather">{pending} pieces of software are still to be compared</span>}
		</p>
	);
}
