import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { useMay, useMayEverywhere } from "../api/me";
import { usePages } from "../api/queries";
import { Choice } from "../parts/Editor";
import { TextField } from "../parts/fields";
import { Heading } from "../parts/Heading";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { bytes } from "../parts/units";
import { AdvisoryLink, Decisions, Released, Severity } from "./words";

const classes = ["all", "security", "critical", "definition", "driver", "feature", "other"] as const;

/** What devices miss, the most pressing first. */
export function Updates() {
	const [search, setSearch] = useState("");
	const [kind, setKind] = useState<(typeof classes)[number]>("all");
	const may = useMayEverywhere("updates.administer");
	const act = useMay("updates.act");
	const go = useNavigate();
	const list = usePages(
		"/updates",
		{
			query: { limit: 100, search: search || undefined, class: kind === "all" ? undefined : kind },
		},
		{ refetchInterval: 60_000 },
	);
	return (
		<div>
			<Heading title="Updates">
				<TextField
					label="Search updates"
					hidden
					className="ml-auto w-56 py-1"
					type="search"
					placeholder="Name or title"
					value={search}
					onChange={setSearch}
				/>
				{act && (
					<Link className="button" to="/rollouts?new">
						Roll out
					</Link>
				)}
			</Heading>
			<div className="px-5 py-4">
				<div className="mb-3 flex flex-wrap gap-1">
					<Choice of={classes} chosen={kind} name={(c) => c} onChoose={setKind} />
				</div>
				{list.isPending && <Waiting what="what is missing" />}
				{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
				{list.data && list.rows.length === 0 && (
					<Empty title={search || kind !== "all" ? "Nothing of these is missing." : "Nothing is missing."}>
						Devices tell what their sources of updates offer when they connect, every few hours, and after each
						installation.
					</Empty>
				)}
				{list.rows.length > 0 && (
					<Table
						rows={list.rows}
						list={list}
						id={(x) => `${x.update.source} ${x.update.name} ${x.update.to}`}
						columns={[
							{
								head: "Update",
								show: (x) => (
									<>
										<span className="font-medium">{x.update.title || x.update.name}</span>
										<span className="block text-faint text-sm">
											{[
												x.update.title && x.update.name,
												x.update.to,
												x.update.source,
												x.update.vendor,
												x.update.size && bytes(x.update.size),
											]
												.filter(Boolean)
												.join(" · ")}
										</span>
									</>
								),
							},
							{
								head: "What it is",
								show: (x) => (
									<>
										<Severity of={x.update} />
										<span className="block text-faint text-sm">
											{x.update.advisories?.map((id, i) => (
												<span key={id}>
													{i > 0 && ", "}
													<AdvisoryLink id={id} />
												</span>
											))}
											{x.update.advisories && x.update.restart && " · "}
											{x.update.restart && `restarts the ${x.update.restart}`}
											{x.update.replaced_by && <span className="block">replaced by {x.update.replaced_by}</span>}
										</span>
									</>
								),
							},
							{
								head: "Devices",
								className: "tabular-nums",
								value: (x) => x.devices,
								show: (x) => (
									<>
										<Link className="link" to={`/exposure?missing=${encodeURIComponent(x.update.name)}`}>
											{x.devices}
										</Link>
										{x.blocked > 0 && (
											<span className="block text-gorse text-sm">{x.blocked} would not install it</span>
										)}
									</>
								),
							},
							{ head: "Released", show: (x) => <Released of={x.update} seen={x.first_seen} /> },
							{ head: "What the rules say", className: "w-56", show: (x) => <Decisions counts={x.states} /> },
							{
								head: "",
								actions: true,
								show: (x) =>
									may && (
										<button
											type="button"
											className="button-quiet"
											aria-label={`Decide about ${x.update.name}`}
											onClick={() => go(`/approvals?update=${encodeURIComponent(x.update.name)}`)}
										>
											Decide
										</button>
									),
							},
						]}
					/>
				)}
			</div>
		</div>
	);
}
