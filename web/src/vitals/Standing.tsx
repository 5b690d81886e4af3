import { Popover, PopoverButton, PopoverPanel } from "@headlessui/react";
import { ChartBarIcon } from "@heroicons/react/16/solid";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import type { Device } from "../api/client";
import { read } from "../api/queries";
import { Choice } from "../parts/Editor";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { bytes } from "../parts/units";

/** Is it only this one? Opens where a reading or fact of a device lies among others. */
export function Standing({ device, of, label }: { device: Device; of: string; label: string }) {
	return (
		<Popover className="inline">
			<PopoverButton
				className="rounded p-0.5 text-faint hover:text-heather"
				aria-label={`${label} among other devices`}
				title="Is it only this one?"
			>
				<ChartBarIcon className="size-3.5" aria-hidden="true" />
			</PopoverButton>
			<PopoverPanel
				anchor="bottom start"
				className="z-40 mt-1 w-96 rounded-md border border-line bg-raised p-3 shadow-xl"
			>
				<Shown device={device} of={of} />
			</PopoverPanel>
		</Popover>
	);
}

function Shown({ device: d, of }: { device: Device; of: string }) {
	const among = [
		{ name: "All", where: undefined },
		{ name: "Same system", where: `os == ${JSON.stringify(d.os)}` },
		{ name: "Same model", where: `model == ${JSON.stringify(d.model)}` },
		{ name: "Same site", where: `site == ${JSON.stringify(d.site)}` },
	];
	const [chosen, setChosen] = useState(1);
	const where = among[chosen]?.where;
	const standing = useQuery(read("/devices/{id}/standing", { path: { id: d.id }, query: { of, where } }));
	const s = standing.data;
	const most = Math.max(1, ...(s?.bins.map((b) => b.count) ?? []));
	const write = (v: number) => (s?.unit === "B/s" ? `${bytes(v)}/s` : `${Number(v.toPrecision(3))} ${s?.unit ?? ""}`);
	return (
		<div>
			<div className="mb-2 flex flex-wrap gap-1">
				<Choice of={among} chosen={among[chosen]} name={(a) => a.name} onChoose={(a) => setChosen(among.indexOf(a))} />
			</div>
			{standing.isPending && <Waiting what="the others" />}
			{standing.isError && <ProblemAlert error={standing.error} />}
			{s && (
				<>
					<p className="mb-2">
						<span className="font-medium">{s.title}</span>{" "}
						{s.numeric && s.value !== undefined ? (
							<>
								{write(s.value)}: {Math.round((s.rank ?? 0) * 100)} % of {s.devices} devices read less. The median is{" "}
								{write(s.median ?? 0)}.
							</>
						) : (
							<>
								{s.text}, among {s.devices} devices.
							</>
						)}
					</p>
					{s.numeric ? (
						<div>
							<div className="flex h-20 items-end gap-px" role="img" aria-label="Distribution, this device marked">
								{s.bins.map((b) => (
									<div
										key={b.from}
										title={`${write(b.from ?? 0)} to ${write(b.to ?? 0)}: ${b.count}${b.here ? ", this device" : ""}`}
										className={`min-w-px flex-1 ${b.here ? "bg-heather" : "bg-edge/40"}`}
										style={{ height: `${b.count ? Math.max(4, (100 * b.count) / most) : 0}%` }}
									/>
								))}
							</div>
							<div className="flex justify-between text-faint text-xs tabular-nums">
								<span>{write(s.bins[0]?.from ?? 0)}</span>
								<span>{write(s.bins.at(-1)?.to ?? 0)}</span>
							</div>
						</div>
					) : (
						<ul className="max-h-40 overflow-auto">
							{s.bins.map((b) => (
								<li key={b.text} className={`flex items-center gap-2 ${b.here ? "font-medium text-heather" : ""}`}>
									<span className="w-40 truncate">{b.text || "others"}</span>
									<span className="h-2 rounded-sm bg-heather/60" style={{ width: `${(40 * b.count) / most}%` }} />
									<span className="tabular-nums">{b.count}</span>
								</li>
							))}
						</ul>
					)}
					{s.like.length > 0 && (
						<p className="mt-2 text-sm">
							<span className="text-faint">Most like it: </span>
							{s.like.slice(0, 6).map((l, i) => (
								<span key={l.id}>
									{i > 0 && ", "}
									<Link to={`/devices/${l.id}`} className="link">
										{l.name}
									</Link>
									{l.value !== undefined && ` (${write(l.value)})`}
								</span>
							))}
						</p>
					)}
				</>
			)}
		</div>
	);
}
