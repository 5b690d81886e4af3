import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { answer, api, type Device, ProblemError, type Schemas } from "../api/client";
import { lines } from "../api/lines";
import { useMay } from "../api/me";
import { read, useReadAnew } from "../api/queries";
import { Confirm } from "../parts/Confirm";
import { SelectField, TextField } from "../parts/fields";
import { Grid, type GridColumn } from "../parts/Grid";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { save } from "../parts/save";
import { Controls, Pane, useAction } from "./Pane";

type Setting = Schemas["Setting"];
type Found = { path: string[]; setting: Setting };

const columns: GridColumn<Found>[] = [
	{ id: "name", head: "Name", width: "minmax(9rem, 2fr)", value: (f) => f.setting.name, show: (f) => name(f.setting) },
	{ id: "type", head: "Type", width: "5.5rem", value: (f) => (f.setting.folder ? "" : (f.setting.type ?? "")) },
	{
		id: "value",
		head: "Value",
		width: "minmax(8rem, 3fr)",
		value: (f) => (f.setting.folder ? (f.setting.about ?? "") : shown(f.setting)),
	},
];

const where: GridColumn<Found> = {
	id: "where",
	head: "Where",
	width: "minmax(8rem, 2fr)",
	value: (f) => f.path.join(" / "),
};

function name(s: Setting) {
	return s.folder ? <span className="font-medium">{s.name} ›</span> : s.name;
}

function shown(s: Setting) {
	return s.problem ?? (s.value ?? "").replaceAll("\n", " | ");
}

const key = (f: Found) => [...f.path, f.setting.name, f.setting.folder ? "/" : ""].join("\u0000");

/** The settings of a device under one name: registry, preferences, kernel parameters, files. */
export function SettingsPane({ device, onClose }: { device: Device; onClose: () => void }) {
	const readAnew = useReadAnew("/devices/{id}/settings", { id: device.id });
	const may = useMay("settings.act");
	const [path, setPath] = useState<string[]>([]);
	const [chosen, setChosen] = useState(new Set<string>());
	const [adding, setAdding] = useState(false);
	const search = useSearch(device, path);
	const page = useQuery(read("/devices/{id}/settings", { path: { id: device.id }, query: { at: path } }));
	const action = useAction(
		(body: Schemas["SettingAction"]) =>
			answer(api.POST("/devices/{id}/settings", { params: { path: { id: device.id } }, body })),
		() => {
			readAnew();
			search.again();
		},
	);
	const go = (to: string[]) => {
		setPath(to);
		setChosen(new Set());
		setAdding(false);
		search.clear();
	};
	const rows = search.found ?? (page.data?.items ?? []).map((setting) => ({ path, setting }));
	const one = chosen.size === 1 ? rows.find((f) => chosen.has(key(f)) && !f.setting.folder) : undefined;
	const types = page.data?.types ?? [];
	return (
		<Pane
			title="Settings"
			onClose={onClose}
			status={
				search.found
					? `${search.found.length} found, ${search.checked} folders checked at`
					: page.data && `${rows.length} here`
			}
		>
			<Controls>
				<nav aria-label="Place" className="flex min-w-0 flex-1 flex-wrap items-center text-sm">
					{[device.name, ...path].map((part, i) => (
						<span key={i} className="flex items-center">
							{i > 0 && <span className="text-faint">/</span>}
							<button
								type="button"
								className="button-quiet min-h-6 px-1.5 py-0"
								aria-current={i === path.length ? "location" : undefined}
								onClick={() => go(path.slice(0, i))}
							>
								{part}
							</button>
						</span>
					))}
				</nav>
				<form
					className="flex gap-1"
					onSubmit={(e) => {
						e.preventDefault();
						search.start();
					}}
				>
					<TextField
						label="Search from here"
						hidden
						className="w-44 py-0.5 text-sm"
						type="search"
						placeholder="Search from here"
						maxLength={200}
						value={search.text}
						onChange={(v) => search.setText(v)}
					/>
				</form>
				<button
					type="button"
					className="button-quiet text-sm"
					disabled={path.length === 0 || search.busy}
					title="All values from here on, as lines of JSON"
					onClick={search.exportAll}
				>
					Export
				</button>
				{may && types.length > 0 && (
					<button type="button" className="button-quiet text-sm" onClick={() => setAdding(true)}>
						New
					</button>
				)}
			</Controls>
			{search.error !== undefined && <ProblemAlert error={search.error} />}
			{page.isPending && !search.found && <Waiting what="the settings" />}
			{page.isError && !search.found && (
				<div className="p-3">
					<ProblemAlert error={page.error} retry={() => page.refetch()} />
				</div>
			)}
			{!page.isPending && rows.length === 0 && !search.busy && !page.isError && (
				<Empty title={search.found ? "Nothing is found." : "Nothing stands here."}>
					{search.found ? "Neither a name nor a value holds that text, from here on." : "Go back by the path above."}
				</Empty>
			)}
			{rows.length > 0 && (
				<div className="min-h-0 flex-1">
					<Grid
						label="Settings"
						rows={rows}
						columns={search.found ? [...columns, where] : columns}
						id={key}
						chosen={chosen}
						onChoose={(ids) => {
							setChosen(ids);
							setAdding(false);
						}}
						onOpen={(f) => f.setting.folder && go([...f.path, f.setting.name])}
						keep
						faint={(f) => Boolean(f.setting.problem || f.setting.read_only)}
					/>
				</div>
			)}
			{adding && (
				<Value
					key="new"
					types={types}
					busy={action.busy}
					onCancel={() => setAdding(false)}
					onSet={(made) => action.act({ action: "set", path, ...made })}
				/>
			)}
			{one && !adding && (
				<Value
					key={`${key(one)} ${one.setting.value}`}
					found={one}
					types={types}
					keeps={one.path[0] === "kernel" ? page.data?.keeps || "at each start" : undefined}
					readOnly={!may || one.setting.read_only || one.setting.problem !== undefined}
					busy={action.busy}
					onCancel={() => setChosen(new Set())}
					onSet={(made) => action.act({ action: "set", path: one.path, was: one.setting.value ?? "", ...made })}
					onRemove={
						one.path[0] === "kernel"
							? undefined
							: () =>
									action.act({ action: "remove", path: one.path, name: one.setting.name, was: one.setting.value ?? "" })
					}
				/>
			)}
			{action.said}
		</Pane>
	);
}

/** The search from a place on, and the export, which is a search for everything. */
function useSearch(device: Device, path: string[]) {
	const [text, setText] = useState("");
	const [found, setFound] = useState<Found[]>();
	const [checked, setLooked] = useState(0);
	const [busy, setBusy] = useState(false);
	const [error, setError] = useState<unknown>();
	const stop = useRef<AbortController>(undefined);
	const look = async (body: Schemas["SettingSearch"], each: (f: Found) => void) => {
		stop.current?.abort();
		const mine = new AbortController();
		stop.current = mine;
		setBusy(true);
		setError(undefined);
		try {
			await lines<Schemas["SettingFound"]>(
				`/devices/${device.id}/settings/search`,
				mine.signal,
				(e) => {
					if (e.setting) each({ path: e.path ?? [], setting: e.setting });
					if (e.checked) setLooked(e.checked);
					if (e.more) throw new ProblemError({ status: 0, title: "There is more.", detail: "Narrow the search." });
				},
				body,
			);
		} catch (problem) {
			if (!mine.signal.aborted) setError(problem);
		} finally {
			if (stop.current === mine) setBusy(false);
		}
	};
	const start = async () => {
		if (!text) return clear();
		const all: Found[] = [];
		setFound([]);
		setLooked(0);
		let drawn = 0;
		await look({ path, text, most: 2000 }, (f) => {
			all.push(f);
			if (performance.now() - drawn > 150) {
				drawn = performance.now();
				setFound([...all]);
			}
		});
		setFound(all);
	};
	const clear = () => {
		stop.current?.abort();
		setFound(undefined);
		setText("");
		setBusy(false);
	};
	const exportAll = async () => {
		const all: string[] = [];
		await look({ path, most: 100_000 }, (f) => {
			const { name, type, value } = f.setting;
			all.push(JSON.stringify({ path: f.path, name, type, value }));
		});
		if (all.length > 0) save(`${device.name}-${path.join("-")}.jsonl`, `${all.join("\n")}\n`);
	};
	return { text, setText, found, checked, busy, error, start, clear, exportAll, again: () => found && start() };
}

/** One value, to be changed. */
function Value({
	found,
	types,
	keeps,
	readOnly = false,
	busy,
	onCancel,
	onSet,
	onRemove,
}: {
	found?: Found;
	types: string[];
	keeps?: string;
	readOnly?: boolean;
	busy: boolean;
	onCancel: () => void;
	onSet: (made: { name: string; type: Setting["type"]; value: string; keep?: boolean }) => void;
	onRemove?: () => void;
}) {
	const old = found?.setting;
	const [title, setTitle] = useState(old?.name ?? "");
	const [type, setType] = useState(old?.type ?? types[0] ?? "text");
	const [value, setValue] = useState(old?.value ?? "");
	const [keep, setKeep] = useState(false);
	const long = type === "list" || type === "binary" || value.includes("\n") || value.length > 60;
	const field = {
		className: "field font-mono text-sm",
		"aria-label": "Value",
		value,
		spellCheck: false,
		readOnly,
		onChange: (e: { target: { value: string } }) => setValue(e.target.value),
	};
	return (
		<form
			aria-label={old ? `Value of ${old.name}` : "New value"}
			className="space-y-2 border-line border-t bg-panel px-3 py-2"
			onSubmit={(e) => {
				e.preventDefault();
				onSet({ name: title, type: type as Setting["type"], value, keep: keep || undefined });
			}}
		>
			<div className="flex items-start gap-2">
				{old ? (
					<span className="min-w-0 py-1 font-medium break-all">{old.name}</span>
				) : (
					<TextField
						label="Name"
						hidden
						className="w-52 text-sm"
						placeholder="Name"
						required
						value={title}
						onChange={setTitle}
					/>
				)}
				{types.length > 1 && !readOnly && (
					<SelectField label="Type" hidden className="w-auto py-1 text-sm" value={type} onChange={setType}>
						{types.map((t) => (
							<option key={t} value={t}>
								{t}
							</option>
						))}
					</SelectField>
				)}
				<div className="min-w-0 flex-1">{long ? <textarea rows={4} {...field} /> : <input {...field} />}</div>
			</div>
			{(old?.problem || old?.about) && <p className="text-faint text-sm">{old.problem ?? old.about}</p>}
			<div className="flex flex-wrap items-center gap-2">
				{!readOnly && (
					<button
						type="submit"
						className="button py-1"
						disabled={busy || (old !== undefined && value === old.value && !keep)}
					>
						Set
					</button>
				)}
				{!readOnly && onRemove && old && (
					<Confirm label="Remove" title={`Remove ${old.name}?`} verb="Remove 1 setting" disabled={busy} onDo={onRemove}>
						What reads it takes its own usual value then. It was: {old.value || "empty"}
					</Confirm>
				)}
				<button type="button" className="button-quiet" onClick={onCancel}>
					{readOnly ? "Close" : "Cancel"}
				</button>
				{keeps && !readOnly && (
					<label className="flex items-center gap-1.5 text-sm" title={keeps}>
						<input
							type="checkbox"
							className="size-4 accent-heather"
							checked={keep}
							onChange={(e) => setKeep(e.target.checked)}
						/>
						Keep it across restarts
					</label>
				)}
				{readOnly && <span className="text-faint text-sm">It can only be read.</span>}
			</div>
		</form>
	);
}
