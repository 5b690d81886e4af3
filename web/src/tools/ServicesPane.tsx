import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Device, type Schemas } from "../api/client";
import { useMay } from "../api/me";
import { read, useReadAnew } from "../api/queries";
import { Confirm } from "../parts/Confirm";
import { Choice } from "../parts/Editor";
import { TextField } from "../parts/fields";
import { Grid, type GridColumn } from "../parts/Grid";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Ago } from "../parts/time";
import { bytes } from "../parts/units";
import { Controls, Pane, useAction } from "./Pane";

type Service = Schemas["DeviceService"];

const tone: Record<string, string> = {
	running: "text-moss",
	failed: "text-rowan",
	starting: "text-gorse",
	stopping: "text-gorse",
};
const sign: Record<string, string> = { running: "●", failed: "▲", starting: "◐", stopping: "◐" };

const columns: GridColumn<Service>[] = [
	{ id: "name", head: "Name", width: "minmax(12rem, 2fr)", value: (s) => s.name },
	{
		id: "state",
		head: "State",
		width: "7rem",
		value: (s) => s.state,
		show: (s) => (
			<span className={tone[s.state] ?? "text-faint"}>
				<span aria-hidden="true">{sign[s.state] ?? "○"}</span> {s.state}
			</span>
		),
	},
	{ id: "start", head: "Starts", width: "6rem", value: (s) => s.start },
	{
		id: "memory",
		head: "Memory",
		width: "5rem",
		right: true,
		value: (s) => s.memory ?? 0,
		show: (s) => (s.memory ? bytes(s.memory) : ""),
	},
	{ id: "title", head: "What it is", width: "minmax(8rem, 2fr)", value: (s) => s.title ?? "" },
];

const states = ["all", "running", "failed", "stopped"] as const;

/** The services of a device. */
export function ServicesPane({ device, onClose }: { device: Device; onClose: () => void }) {
	const readAnew = useReadAnew("/devices/{id}/services/*", { id: device.id });
	const [filter, setFilter] = useState("");
	const [state, setState] = useState<(typeof states)[number]>("all");
	const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
	const list = useQuery({ ...read("/devices/{id}/services", { path: { id: device.id } }), refetchInterval: 10_000 });
	const action = useAction(
		(body: Schemas["ServiceAction"]) =>
			answer(api.POST("/devices/{id}/services", { params: { path: { id: device.id } }, body })),
		readAnew,
	);
	const text = filter.toLowerCase();
	const rows = (list.data?.items ?? []).filter(
		(s) => (state === "all" || s.state === state) && `${s.name} ${s.title ?? ""}`.toLowerCase().includes(text),
	);
	const one = chosen.size === 1 ? list.data?.items.find((s) => chosen.has(s.name)) : undefined;
	return (
		<Pane
			title="Services"
			onClose={onClose}
			status={list.data && `${rows.length} of ${list.data.items.length} services`}
		>
			<Controls>
				<TextField
					label="Filter services"
					hidden
					className="max-w-44 py-0.5"
					type="search"
					placeholder="Filter"
					value={filter}
					onChange={setFilter}
				/>
				<Choice of={states} chosen={state} name={(s) => s} onChoose={setState} />
			</Controls>
			{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
			{list.isPending && <Waiting what="the services" />}
			{list.data && rows.length === 0 && <Empty title="No service is so.">Clear the filter to see all.</Empty>}
			<div className="min-h-0 flex-1">
				{rows.length > 0 && (
					<Grid
						label="Services"
						rows={rows}
						columns={columns}
						id={(s) => s.name}
						chosen={chosen}
						onChoose={setChosen}
						faint={(s) => s.state === "stopped"}
					/>
				)}
			</div>
			{one && <Detail device={device} service={one} action={action} />}
			{action.said}
		</Pane>
	);
}

function Detail({
	device,
	service: s,
	action,
}: {
	device: Device;
	service: Service;
	action: { act: (d: Schemas["ServiceAction"]) => void; busy: boolean };
}) {
	const act = useMay("services.act");
	const administer = useMay("services.administer");
	const whole = useQuery({
		...read("/devices/{id}/services/{name}", { path: { id: device.id, name: s.name } }),
		refetchInterval: 5000,
	});
	const others = whole.data?.needed_by ?? [];
	const order = (name: Schemas["ServiceAction"]["action"]) => action.act({ action: name, name: s.name, stops: others });
	const what = (
		<>
			{others.length > 0 ? (
				<>
					<p>On {device.name} these stop with it:</p>
					<ul className="list-disc pl-5 font-medium">
						{others.map((o) => (
							<li key={o}>{o}</li>
						))}
					</ul>
				</>
			) : (
				<p>On {device.name} nothing else stops with it.</p>
			)}
			<p className="text-faint">Whoever uses it is cut off until it runs again. It has 60 seconds.</p>
		</>
	);
	return (
		<div className="flex max-h-[45%] flex-col border-line border-t">
			<div className="flex flex-wrap items-center gap-1 px-3 py-1">
				<span className="mr-1 font-medium">{s.name}</span>
				<span className="mr-2 text-faint text-sm">
					{s.detail && s.detail !== s.state && `${s.detail}, `}
					{s.since && (
						<>
							since <Ago at={s.since} suffix="" />
						</>
					)}
					{others.length > 0 && `; ${others.length} depend on it`}
				</span>
				{act &&
					(s.state === "running" ? (
						<>
							<Confirm
								label="Restart"
								title={`Restart ${s.name}?`}
								verb={`Restart ${others.length + 1}`}
								disabled={action.busy || whole.isPending}
								onDo={() => order("restart")}
							>
								{what}
							</Confirm>
							<Confirm
								label="Stop"
								title={`Stop ${s.name}?`}
								verb={`Stop ${others.length + 1}`}
								disabled={action.busy || whole.isPending || s.will_not_stop}
								onDo={() => order("stop")}
							>
								{what}
							</Confirm>
						</>
					) : (
						<button type="button" className="button-quiet" disabled={action.busy} onClick={() => order("start")}>
							Start
						</button>
					))}
				{administer && (
					<label className="ml-2 flex items-center gap-1.5 text-sm">
						Starts
						<select
							className="field w-auto py-0.5 text-sm"
							value={s.start}
							onChange={(e) => action.act({ action: "mode", name: s.name, start: e.target.value as "automatic" })}
						>
							{["automatic", "manual", "disabled", ...(s.start === "other" ? ["other"] : [])].map((m) => (
								<option key={m} value={m} disabled={m === "other"}>
									{m}
								</option>
							))}
						</select>
					</label>
				)}
			</div>
			{whole.isError && <ProblemAlert error={whole.error} />}
			{whole.data?.log && whole.data.log.length > 0 && (
				<section
					className="flex min-h-0 flex-col-reverse overflow-auto bg-panel px-3 py-1"
					// biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reachable by keys
					tabIndex={0}
					aria-label="Last lines of its log"
				>
					<pre className="font-mono text-xs whitespace-pre-wrap">{whole.data.log.join("\n")}</pre>
				</section>
			)}
		</div>
	);
}
