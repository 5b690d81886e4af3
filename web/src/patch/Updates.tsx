import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { useMay, useMayEverywhere } from "../access/me";
import { answer, api, type Schemas } from "../api/client";
import { Choice } from "../parts/Editor";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { More, Table } from "../parts/Table";
import { bytes } from "../parts/units";
import { usePages } from "../parts/usePages";
import { AdvisoryLink, Decisions, Heading, Released, Severity } from "./words";

const classes = ["all", "security", "critical", "definition", "driver", "feature", "other"] as const;

/** What devices miss, the most pressing first. */
export function Updates() {
	const [search, setSearch] = useState("");
	const [kind, setKind] = useState<(typeof classes)[number]>("all");
	const may = useMayEverywhere("updates.administer");
	const act = useMay("updates.act");
	const go = useNavigate();
	const list = usePages(
		["updates", search, kind],
		(cursor, signal) =>
			answer(
				api.GET("/updates", {
					params: {
						query: { cursor, limit: 100, search: search || undefined, class: kind === "all" ? undefined : kind },
					},
					signal,
				}),
			),
		60_000,
	);
	return (
		<div>
			<Heading title="Updates">
				<input
					className="field ml-auto w-56 py-1"
					type="search"
					placeholder="Name or title"
					aria-label="Search updates"
					value={search}
					onChange={(e) => setSearch(e.target.value)}
				/>
				{act && (
					<Link className="button" to="/rollouts?new">
						Roll out
					</Link>
				)}
			</Heading>
			<div className="px-5 py-4">
				<div className="mb-3 flex gap-1">
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
					<Table heads={["Update", "What it is", "Devices", "Released", "What the rules say", ""]}>
						{list.rows.map((x) => (
							<Row
								key={`${x.update.source} ${x.update.name} ${x.update.to}`}
								of={x}
								onDecide={may ? () => go(`/approvals?update=${encodeURIComponent(x.update.name)}`) : undefined}
							/>
						))}
					</Table>
				)}
				<More list={list} />
			</div>
		</div>
	);
}

function Row({ of: x, onDecide }: { of: Schemas["MissingUpdate"]; onDecide?: () => void }) {
	const u = x.update;
	return (
		<tr className="border-line border-b align-top">
			<td className="py-2 pr-4">
				<span className="font-medium">{u.title || u.name}</span>
				<span className="block text-faint text-sm">
					{[u.title && u.name, u.to, u.source, u.vendor, u.size && bytes(u.size)].filter(Boolean).join(" · ")}
				</span>
			</td>
			<td className="py-2 pr-4">
				<Severity of={u} />
				<span className="block text-faint text-sm">
					{u.advisories?.map((id, i) => (
						<span key={id}>
							{i > 0 && ", "}
							<AdvisoryLink id={id} />
						</span>
					))}
					{u.advisories && u.restart && " · "}
					{u.restart && `restarts the ${u.restart}`}
					{u.replaced_by && <span className="block">replaced by {u.replaced_by}</span>}
				</span>
			</td>
			<td className="py-2 pr-4 tabular-nums">
				<Link className="link" to={`/exposure?missing=${encodeURIComponent(u.name)}`}>
					{x.devices}
				</Link>
				{x.blocked > 0 && <span className="block text-gorse text-sm">{x.blocked} would not install it</span>}
			</td>
			<td className="py-2 pr-4">
				<Released of={u} seen={x.first_seen} />
			</td>
			<td className="w-56 py-2 pr-4">
				<Decisions counts={x.states} />
			</td>
			<td className="py-1.5 text-right">
				{onDecide && (
					<button type="button" className="button-quiet" aria-label={`Decide about ${u.name}`} onClick={onDecide}>
						Decide
					</button>
				)}
			</td>
		</tr>
	);
}
