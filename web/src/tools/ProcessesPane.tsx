import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { answer, api, type Device, type Schemas } from "../api/client";
import { useMay } from "../api/me";
import { read } from "../api/queries";
import { Confirm } from "../parts/Confirm";
import { Choice } from "../parts/Editor";
import { CheckField, TextField } from "../parts/fields";
import { Grid, type GridColumn } from "../parts/Grid";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Ago } from "../parts/time";
import { bytes } from "../parts/units";
import { Controls, Pane, useAction } from "./Pane";
import { useLines } from "./useLines";

type Process = Schemas["DeviceProcess"];
type Row = Process & { depth: number };

const key = (p: Process) => `${p.pid} ${p.started}`;
const cpu = (n: number) => (n < 0.05 ? "" : n.toFixed(1));

const columns: GridColumn<Row>[] = [
	{
		id: "name",
		head: "Name",
		width: "minmax(11rem, 2fr)",
		value: (p) => p.name,
		show: (p) => <span style={{ paddingLeft: `${p.depth}rem` }}>{p.name}</span>,
	},
	{ id: "pid", head: "PID", width: "4rem", right: true, value: (p) => p.pid },
	{ id: "cpu", head: "CPU %", width: "4.2rem", right: true, value: (p) => p.cpu, show: (p) => cpu(p.cpu) },
	{ id: "memory", head: "Memory", width: "5rem", right: true, value: (p) => p.memory, show: (p) => bytes(p.memory) },
	{
		id: "disk",
		head: "Disk",
		width: "5rem",
		right: true,
		value: (p) => p.read + p.written,
		show: (p) => (p.read + p.written < 100 ? "" : `${bytes(p.read + p.written)}/s`),
	},
	{ id: "person", head: "Runs as", width: "minmax(6rem, 1fr)", value: (p) => p.person ?? "" },
	{ id: "state", head: "State", width: "5rem", value: (p) => p.state ?? "" },
	{ id: "listening", head: "Listens on", width: "minmax(6rem, 1fr)", value: (p) => p.listening?.join(", ") ?? "" },
];

const priorities = ["low", "below-normal", "normal", "above-normal", "high"] as const;

/** The processes of a device, live. */
export function ProcessesPane({ device, onClose }: { device: Device; onClose: () => void }) {
	const act = useMay("processes.act");
	const [all, setAll] = useState<Schemas["Processes"]>();
	const [view, setView] = useState<"List" | "Tree">("List");
	const [filter, setFilter] = useState("");
	const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
	const [still, setStill] = useState(false);
	const stream = useLines<Schemas["Processes"]>(`/devices/${device.id}/processes/live`, undefined, (e) => {
		if (!still || !all) setAll(e);
	});
	const action = useAction((body: Schemas["ProcessAction"]) =>
		answer(api.POST("/devices/{id}/processes", { params: { path: { id: device.id } }, body })),
	);
	const rows = useMemo(() => arrange(all?.items ?? [], view === "Tree", filter), [all, view, filter]);
	const one = chosen.size === 1 ? all?.items.find((p) => chosen.has(key(p))) : undefined;
	const below = one ? count(all?.items ?? [], one.pid) : 0;
	const order = (name: Schemas["ProcessAction"]["action"], more?: Partial<Schemas["ProcessAction"]>) =>
		one && action.act({ action: name, pid: one.pid, started: one.started, ...more });
	return (
		<Pane
			title="Processes"
			onClose={onClose}
			status={
				all &&
				`${all.items.length} processes, ${cpu(all.items.reduce((n, p) => n + p.cpu, 0) / all.cores)} % of ${all.cores} cores`
			}
		>
			<Controls>
				<TextField
					label="Filter processes"
					hidden
					className="max-w-44 py-0.5"
					type="search"
					placeholder="Filter"
					value={filter}
					onChange={setFilter}
				/>
				<Choice of={["List", "Tree"] as const} chosen={view} name={(v) => v} onChoose={setView} />
				<CheckField className="ml-auto flex items-center gap-1.5 text-sm" checked={still} onChange={setStill}>
					Hold still
				</CheckField>
			</Controls>
			<Spikes device={device} />
			{stream.error !== undefined && <ProblemAlert error={stream.error} retry={stream.retry} />}
			{!all && stream.error === undefined && <Waiting what="the processes" />}
			<div className="min-h-0 flex-1">
				{all && (
					<Grid
						key={view}
						label="Processes"
						rows={rows}
						columns={columns}
						id={key}
						chosen={chosen}
						onChoose={setChosen}
						keep={view === "Tree"}
						first={view === "Tree" ? { id: "", back: false } : { id: "cpu", back: true }}
					/>
				)}
			</div>
			{one && (
				<div className="border-line border-t px-3 py-1.5">
					<p className="truncate font-mono text-sm" title={one.command}>
						{one.command || one.name}
					</p>
					<div className="flex flex-wrap items-center gap-1">
						<span className="mr-2 text-faint text-sm">
							began <Ago at={one.started} />
							{below > 0 && `, started ${below} others`}
						</span>
						{act && (
							<>
								<Confirm
									label="End"
									title={`End ${one.name}?`}
									verb="End it"
									disabled={action.busy}
									onDo={() => order("end")}
								>
									<p>
										Process {one.pid} on {device.name} is asked to end, and has 5 seconds for it. What it has not saved
										may be lost.
									</p>
								</Confirm>
								<Confirm
									label="End by force"
									title={`End ${one.name} by force?`}
									verb="End it by force"
									disabled={action.busy}
									onDo={() => order("end", { force: true })}
								>
									<p>
										Process {one.pid} on {device.name} ends at once. What it has not saved is lost.
									</p>
								</Confirm>
								{below > 0 && (
									<Confirm
										label={`End all ${below + 1}`}
										title={`End ${one.name} and the ${below} that it started?`}
										verb={`End ${below + 1} processes`}
										disabled={action.busy}
										onDo={() => order("end-tree")}
									>
										<p>
											{below + 1} processes on {device.name} are asked to end.
										</p>
									</Confirm>
								)}
								<button
									type="button"
									className="button-quiet"
									disabled={action.busy}
									onClick={() => order(one.state === "stopped" ? "continue" : "pause")}
								>
									{one.state === "stopped" ? "Continue" : "Pause"}
								</button>
								<label className="ml-2 flex items-center gap-1.5 text-sm">
									Priority
									<select
										className="field w-auto py-0.5 text-sm"
										value={one.priority || "normal"}
										onChange={(e) => order("priority", { priority: e.target.value as (typeof priorities)[number] })}
									>
										{priorities.map((p) => (
											<option key={p} value={p}>
												{p.replace("-", " ")}
											</option>
										))}
									</select>
								</label>
							</>
						)}
					</div>
				</div>
			)}
			{action.said}
		</Pane>
	);
}

/** Rows as a list, or as a tree in which each stands below what started it. */
function arrange(all: Process[], tree: boolean, filter: string): Row[] {
	const text = filter.toLowerCase();
	const wanted = all.filter(
		(p) =>
			!text ||
			`${p.name} ${p.pid} ${p.person ?? ""} ${p.command ?? ""} ${p.listening?.join(" ") ?? ""}`
				.toLowerCase()
				.includes(text),
	);
	if (!tree) return wanted.map((p) => ({ ...p, depth: 0 }));
	const there = new Set(wanted.map((p) => p.pid));
	const below = new Map<number, Process[]>();
	for (const p of wanted) {
		const parent = p.parent !== p.pid && there.has(p.parent) ? p.parent : 0;
		below.set(parent, [...(below.get(parent) ?? []), p]);
	}
	const rows: Row[] = [];
	const walk = (parent: number, depth: number) => {
		for (const p of below.get(parent) ?? []) {
			rows.push({ ...p, depth });
			if (depth < 40 && p.pid !== 0) walk(p.pid, depth + 1);
		}
	};
	walk(0, 0);
	return rows;
}

function count(all: Process[], pid: number): number {
	const children = all.filter((p) => p.parent === pid && p.pid !== pid);
	return children.reduce((n, p) => n + 1 + count(all, p.pid), 0);
}

/** The last hour, a bar a moment; the busiest processes of one stand beside it. */
function Spikes({ device }: { device: Device }) {
	const past = useQuery({
		...read("/devices/{id}/processes/past", { path: { id: device.id } }),
		refetchInterval: 30_000,
	});
	const [at, setAt] = useState<number>();
	const items = past.data?.items ?? [];
	if (items.length < 2) return null;
	const one = items[at ?? items.reduce((most, s, i) => (s.cpu > (items[most]?.cpu ?? 0) ? i : most), 0)];
	return (
		<div className="flex items-center gap-3 border-line border-b px-3 py-1 text-sm">
			<svg
				viewBox={`0 0 ${items.length} 100`}
				preserveAspectRatio="none"
				className="h-7 w-52 shrink-0 text-chart"
				role="img"
				aria-label="CPU of the last hour"
				onMouseLeave={() => setAt(undefined)}
				onMouseMove={(e) => {
					const box = e.currentTarget.getBoundingClientRect();
					setAt(Math.min(items.length - 1, Math.floor(((e.clientX - box.left) / box.width) * items.length)));
				}}
			>
				{items.map((s, i) => (
					<rect
						key={s.at}
						x={i}
						width={0.8}
						y={100 - Math.max(s.cpu, 1)}
						height={Math.max(s.cpu, 1)}
						fill="var(--chart)"
						opacity={s === one ? 1 : 0.45}
					/>
				))}
			</svg>
			{one && (
				<p className="truncate text-faint" title="The busiest moment of the last hour, or the one below the pointer">
					{at === undefined ? "Busiest " : ""}
					<Ago at={one.at} />: <span className="tabular-nums">{one.cpu.toFixed(0)} %</span>
					{one.busiest?.slice(0, 2).map((p) => `, ${p.name} ${cpu(p.cpu) || "0"} %`)}
				</p>
			)}
		</div>
	);
}
