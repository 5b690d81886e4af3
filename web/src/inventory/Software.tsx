import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link } from "react-router";
import { read, usePages } from "../api/queries";
import { TextField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { More } from "../parts/Table";

/** The fleet's software, with its versions and how many devices have each. */
export function Software() {
	const [typed, setTyped] = useState("");
	const search = useDeferredValue(typed.trim());
	const [open, setOpen] = useState<{ name: string; version: string }>();
	const list = usePages("/software", { query: { limit: 100, search: search || undefined } });
	const rows = list.rows;
	return (
		<div className="mx-auto max-w-6xl px-5 py-5">
			<div className="mb-3 flex flex-wrap items-center gap-x-3 gap-y-1">
				<h1 className="text-xl font-semibold">Software</h1>
				<TextField
					label="Search software"
					hidden
					className="max-w-xs"
					type="search"
					placeholder="Part of a name"
					value={typed}
					onChange={setTyped}
				/>
				<a className="button-quiet ml-auto text-sm" href="/api/v1/software?format=csv">
					CSV
				</a>
			</div>
			{list.isPending && <Waiting what="the software" />}
			{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
			{list.data && rows.length === 0 && (
				<Empty title="No software matches.">Agents list it soon after they first connect.</Empty>
			)}
			<ul>
				{rows.map((s) => (
					<li
						key={`${s.source} ${s.name}`}
						className="grid grid-cols-[minmax(12rem,1fr)_5rem_2fr] gap-4 border-line border-b py-1.5"
					>
						<span>
							<span className="font-medium">{s.name}</span> <span className="text-faint text-sm">{s.source}</span>
						</span>
						<span className="text-right tabular-nums">{s.devices}</span>
						<span>
							<span className="flex h-2 overflow-hidden rounded-full bg-line" aria-hidden="true">
								{s.versions.map((v, i) => (
									<span
										key={v.version}
										className="h-full border-page border-r bg-heather"
										style={{
											width: `${(100 * v.devices) / s.devices}%`,
											opacity: 1 - 0.65 * (i / Math.max(1, s.versions.length)),
										}}
									/>
								))}
							</span>
							<span className="flex flex-wrap gap-x-3">
								{s.versions.map((v) => (
									<button
										key={v.version}
										type="button"
										className="link tabular-nums"
										onClick={() => setOpen({ name: s.name, version: v.version })}
									>
										{v.version || "no version"} <span className="text-faint">{v.devices}</span>
									</button>
								))}
							</span>
							{open?.name === s.name && <Having name={open.name} version={open.version} />}
						</span>
					</li>
				))}
			</ul>
			<More list={list} />
		</div>
	);
}

/** The devices that have a version. */
function Having({ name, version }: { name: string; version: string }) {
	const list = useQuery(read("/software/devices", { query: { name, version, limit: 100 } }));
	if (list.isPending) return <Waiting what="the devices" />;
	if (list.isError) return <ProblemAlert error={list.error} />;
	return (
		<p className="mt-1 text-sm">
			<span className="text-faint">{version}: </span>
			{list.data.items.map((d, i) => (
				<span key={d.id}>
					{i > 0 && ", "}
					<Link to={`/devices/${d.id}`} className="link">
						{d.name}
					</Link>
				</span>
			))}
			{list.data.next && " and more"}
		</p>
	);
}
