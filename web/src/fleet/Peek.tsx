import { XMarkIcon } from "@heroicons/react/20/solid";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Device } from "../api/client";
import { read } from "../api/queries";
import { Condition, Level } from "../parts/Condition";
import { ProblemAlert } from "../parts/ProblemAlert";
import { Ago } from "../parts/time";
import { systemName } from "./facets";

/** The essentials of a device beside the list: what is wrong, who works there, what it is. */
export function Peek({ device: d, onClose }: { device: Device; onClose: () => void }) {
	const detail = useQuery(read("/devices/{id}", { path: { id: d.id } }));
	const changes = useQuery(read("/changes", { query: { device: d.id, limit: 5 } })).data?.items;
	const findings = detail.data?.findings;
	const open = (pane: string) => `/devices/${d.id}?pane=${pane}`;
	const offers = (c: string) => d.online && d.capabilities.includes(c);
	return (
		<aside
			aria-label={`About ${d.name}`}
			className="flex h-full w-80 flex-col gap-3 overflow-auto border-line border-l bg-panel px-4 py-3"
		>
			<div>
				<div className="flex items-start gap-2">
					<h2 className="min-w-0 flex-1 font-semibold text-lg break-words">
						<Link className="hover:underline" to={`/devices/${d.id}`}>
							{d.name}
						</Link>
					</h2>
					<button type="button" aria-label="Close" className="rounded p-1 text-faint hover:text-word" onClick={onClose}>
						<XMarkIcon className="size-5" />
					</button>
				</div>
				{d.alias && <p className="font-medium">{d.alias}</p>}
				<p className="text-faint">
					{d.site}, {d.organisation}
				</p>
				<p className="mt-1 flex items-center gap-2">
					<Condition name={d.condition} word />
					<span className="text-faint">
						{d.online ? "online" : "silent"} for <Ago at={d.since} suffix="" />
					</span>
				</p>
			</div>
			<div className="flex flex-wrap gap-1.5">
				<Link className="button" to={`/devices/${d.id}`}>
					Open
				</Link>
				{[
					["shell", "Shell"],
					["files", "Files"],
					["screen", "Screen"],
				].map(
					([pane, name]) =>
						pane &&
						offers(pane) && (
							<Link key={pane} className="button-quiet" to={open(pane)}>
								{name}
							</Link>
						),
				)}
			</div>
			<section>
				<h3 className="head">What is wrong</h3>
				{detail.isError && <ProblemAlert error={detail.error} />}
				{findings?.length === 0 && <p>Nothing.</p>}
				<ul className="space-y-1">
					{findings?.map((f) => (
						<li key={`${f.check} ${f.subject}`} className="flex gap-1.5">
							<Level level={f.level} check={f.check} />
							<span>
								{f.message} <Ago at={f.since} suffix="" />
							</span>
						</li>
					))}
				</ul>
			</section>
			<section>
				<h3 className="head">Who works here</h3>
				{d.people.length > 0 ? (
					<p>{d.people.join(", ")}, now</p>
				) : d.last_people_at ? (
					<p>
						{d.last_people.join(", ")}, <Ago at={d.last_people_at} />
					</p>
				) : (
					<p className="text-faint">Nobody was seen.</p>
				)}
			</section>
			<section>
				<h3 className="head">What changed</h3>
				{changes?.length === 0 && <p className="text-faint">Nothing that is known.</p>}
				<ul className="space-y-1">
					{changes?.map((c) => (
						<li key={`${c.at} ${c.summary}`}>
							{c.summary} <span className="text-faint text-sm">{<Ago at={c.at} />}</span>
						</li>
					))}
				</ul>
			</section>
			<section>
				<h3 className="head">What it is</h3>
				<dl className="grid grid-cols-[5rem_minmax(0,1fr)] gap-x-2 gap-y-0.5">
					{(
						[
							["System", [systemName(d.os), d.os_version].filter(Boolean).join(" ")],
							["Model", d.model],
							["Serial", d.serial],
							["Address", d.addresses[0]],
							["Note", d.note],
							["Tags", (d.tags ?? []).join(", ")],
							["Groups", (d.groups ?? []).join(", ")],
							["Agent", d.agent_version],
						] as const
					)
						.filter(([, v]) => v)
						.map(([name, v]) => (
							<div key={name} className="contents">
								<dt className="text-faint">{name}</dt>
								<dd className="break-words">{v}</dd>
							</div>
						))}
				</dl>
			</section>
		</aside>
	);
}
