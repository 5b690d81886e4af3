import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Device, Schemas } from "../api/client";
import { useMay } from "../api/me";
import { read } from "../api/queries";
import { stepAt, stepNames, toolOf } from "../health/steps";
import { Level } from "../parts/Condition";
import { Ago, span } from "../parts/time";

const most = 3; // lines of each

/** A device at first sight: what is wrong, what changed, who works there, and what is done or planned. */
export function Glance({ detail, people }: { detail: Schemas["DeviceDetail"]; people?: Schemas["SignedIn"][] }) {
	const d = detail.device;
	const jobs = useMay("scripts.see");
	const changes = useQuery(read("/changes", { query: { device: d.id, limit: most } })).data?.items;
	const sessions = useQuery(read("/devices/{id}/sessions", { path: { id: d.id }, query: { limit: 2 } })).data?.items;
	const runs = useQuery({
		...read("/devices/{id}/runs", { path: { id: d.id }, query: { limit: 20 } }),
		enabled: jobs,
	}).data?.items;
	const planned = runs?.filter((r) => r.run.state === "waiting" || r.run.state === "sent") ?? [];
	// Who it is has its own question among the facts.
	const findings = detail.findings.filter((f) => !(detail.question && f.subject === "question"));
	const more = findings.length - most;
	return (
		<div className="grid shrink-0 gap-x-6 gap-y-3 border-line border-b px-4 py-2.5 md:grid-cols-3">
			<Card title="What is wrong">
				{findings.length === 0 && <li className="text-faint">Nothing that a check sees.</li>}
				{findings.slice(0, most).map((f) => {
					const step = stepAt(d, f.check, f.subject, f.since);
					return (
						<li key={`${f.check} ${f.subject}`} className="flex gap-1.5">
							<span className="mt-0.5">
								<Level level={f.level} check={f.check} />
							</span>
							<span>
								{f.message}{" "}
								{step && (
									<Link className="link whitespace-nowrap" to={step}>
										{stepNames[toolOf(d, f.check) ?? ""]}
									</Link>
								)}
							</span>
						</li>
					);
				})}
				{more > 0 && <li className="text-faint">and {more} more</li>}
			</Card>
			<Card title="What changed">
				{changes?.length === 0 && <li className="text-faint">Nothing that is known.</li>}
				{changes?.map((c) => (
					<li key={`${c.at} ${c.summary}`} className="flex gap-2">
						<span className="min-w-0 truncate" title={c.summary}>
							{c.summary}
						</span>
						<span className="ml-auto shrink-0 text-faint">
							<Ago at={c.at} />
						</span>
					</li>
				))}
			</Card>
			<Card title="Who, and what is planned">
				<li>
					<Person device={d} people={people} />
				</li>
				{sessions?.map((s) => (
					<li key={s.id} className="truncate" title={s.note}>
						{s.tool} by {s.actor},{" "}
						<span className="text-faint">
							{s.ended_at ? <Ago at={s.began_at} /> : "now"}
							{s.note && `: ${s.note}`}
						</span>
					</li>
				))}
				{planned.slice(0, 2).map((r) => (
					<li key={r.run.id} className="truncate">
						<Link className="link" to={`/jobs/${r.job}`}>
							{r.job_name}
						</Link>{" "}
						<span className="text-faint">
							{r.run.state === "sent" ? "runs now" : r.run.due_at ? <Ago at={r.run.due_at} /> : "waits"}
						</span>
					</li>
				))}
				{planned.length > 2 && <li className="text-faint">and {planned.length - 2} more jobs</li>}
			</Card>
		</div>
	);
}

function Card({ title, children }: { title: string; children: ReactNode }) {
	return (
		<section aria-label={title} className="min-w-0">
			<h2 className="head">{title}</h2>
			<ul className="space-y-0.5">{children}</ul>
		</section>
	);
}

/** Who is at the device, and whether they work on it now; otherwise who was last. */
function Person({ device: d, people }: { device: Device; people?: Schemas["SignedIn"][] }) {
	if (d.online && people && people.length > 0)
		return people
			.map((p) => (p.idle_seconds < 60 ? `${p.name} is at it` : `${p.name} has been away for ${span(p.idle_seconds)}`))
			.join("; ");
	if (!d.last_people_at) return <span className="text-faint">Nobody was seen here.</span>;
	return (
		<>
			{d.last_people.join(", ")}, <Ago at={d.last_people_at} />
		</>
	);
}
