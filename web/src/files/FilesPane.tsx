import { ArrowLeftIcon, ArrowPathIcon, ArrowRightIcon, ArrowUpIcon } from "@heroicons/react/20/solid";
import { DocumentIcon, FolderIcon, LinkIcon, NoSymbolIcon } from "@heroicons/react/24/outline";
import { useMutation } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { answer, api, type Device, type Schemas } from "../api/client";
import { useMay } from "../api/me";
import { AskLine, Confirm } from "../parts/Confirm";
import { TextField } from "../parts/fields";
import { Grid, type GridColumn } from "../parts/Grid";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Ago } from "../parts/time";
import { bytes } from "../parts/units";
import { Controls, Pane } from "../tools/Pane";
import { useLines } from "../tools/useLines";
import { Access } from "./Access";
import { change } from "./change";
import { Editor } from "./Editor";
import { Follow } from "./Follow";
import { crumbs, join, parent, root, visible } from "./paths";
import { Removed } from "./Removed";
import { send } from "./transfers";

type Entry = Schemas["FileEntry"];

const signs = { folder: FolderIcon, file: DocumentIcon, link: LinkIcon, other: NoSymbolIcon };

const columns: GridColumn<Entry>[] = [
	{
		id: "name",
		head: "Name",
		width: "minmax(13rem, 3fr)",
		// Folders first, as each stands for many.
		value: (e) => `${e.kind === "folder" ? 0 : 1} ${e.name}`,
		show: (e) => {
			const Sign = signs[e.kind as keyof typeof signs] ?? NoSymbolIcon;
			return (
				<span className="inline-flex items-center gap-1.5" title={visible(e.name)}>
					<Sign
						className={`size-4 shrink-0 ${e.kind === "folder" ? "text-heather" : "text-faint"}`}
						aria-label={e.kind}
					/>
					{visible(e.name)}
					{e.target && <span className="text-faint">→ {visible(e.target)}</span>}
				</span>
			);
		},
	},
	{
		id: "size",
		head: "Size",
		width: "5.5rem",
		right: true,
		value: (e) => e.size,
		show: (e) => (e.kind === "file" ? bytes(e.size) : ""),
	},
	{
		id: "modified",
		head: "Changed",
		width: "6.5rem",
		value: (e) => Date.parse(e.modified),
		show: (e) => <Ago at={e.modified} />,
	},
	{ id: "owner", head: "Owner", width: "6rem", value: (e) => e.owner },
	{
		id: "mode",
		head: "Mode",
		width: "6.5rem",
		value: (e) => e.mode,
		show: (e) => <span className="font-mono text-xs">{e.mode}</span>,
	},
];

/** The files of a device. */
export function FilesPane({ device, onClose }: { device: Device; onClose: () => void }) {
	const os = device.os;
	const [params] = useSearchParams();
	const [trail, setTrail] = useState({ list: [params.get("folder") ?? root(os)], at: 0 });
	const followed = params.get("follow");
	const [opened, setOpened] = useState<{ path: string; how: "edit" | "follow" } | "removed" | undefined>(
		followed ? { path: followed, how: "follow" } : undefined,
	);
	const folder = trail.list[trail.at] ?? root(os);
	const go = (path: string) => setTrail((t) => ({ list: [...t.list.slice(0, t.at + 1), path], at: t.at + 1 }));
	const step = (by: number) => setTrail((t) => ({ ...t, at: t.at + by }));
	return (
		<Pane title="Files" onClose={onClose} status={folder}>
			{opened === "removed" ? (
				<Removed device={device} onClose={() => setOpened(undefined)} />
			) : opened?.how === "edit" ? (
				<Editor device={device} path={opened.path} onClose={() => setOpened(undefined)} />
			) : opened?.how === "follow" ? (
				<Follow device={device} path={opened.path} onClose={() => setOpened(undefined)} />
			) : (
				<Folder key={folder} device={device} path={folder} go={go} step={step} trail={trail} open={setOpened} />
			)}
		</Pane>
	);
}

function Folder({
	device,
	path,
	go,
	step,
	trail,
	open,
}: {
	device: Device;
	path: string;
	go: (path: string) => void;
	step: (by: number) => void;
	trail: { list: string[]; at: number };
	open: (what: { path: string; how: "edit" | "follow" } | "removed") => void;
}) {
	const os = device.os;
	const may = useMay("files.act");
	const read = useMay("files.read");
	const [entries, setEntries] = useState<Entry[]>([]);
	const [done, setDone] = useState(false);
	const [filter, setFilter] = useState("");
	const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
	const [over, setOver] = useState(false);
	const fresh = useRef(true);
	const coming = useRef<Entry[]>([]);
	const drawn = useRef(0);
	const list = useLines<Schemas["FileBatch"]>(
		`/devices/${device.id}/files?path=${encodeURIComponent(path)}`,
		undefined,
		(b) => {
			// A list that is read anew takes the place of the old one at its first part.
			if (fresh.current) coming.current = [];
			fresh.current = b.done ?? false;
			for (const e of b.entries ?? []) coming.current.push(e);
			if (b.done) setDone(true);
			// Each drawing sorts all: a long list is drawn at its beginning, at its end, and seldom between.
			if (b.done || performance.now() - drawn.current > 500) {
				drawn.current = performance.now();
				setEntries([...coming.current]);
			}
		},
	);
	const again = () => {
		fresh.current = true;
		list.retry();
	};
	const rows = useMemo(
		() => (filter ? entries.filter((e) => e.name.toLowerCase().includes(filter.toLowerCase())) : entries),
		[entries, filter],
	);
	const picked = entries.filter((e) => chosen.has(e.name));
	const one = picked.length === 1 ? picked[0] : undefined;
	const at = (e: Entry) => join(path, e.name, os);
	const action = useMutation({
		mutationFn: (body: Schemas["FileAction"]) => change(device.id, body),
		onSettled: again,
	});
	const upload = (files: Iterable<{ file: File; path: string }>) => {
		for (const f of files) send(device, join(path, f.path, os), f.file, again);
	};
	const paths = picked.map(at);
	return (
		<>
			<Controls>
				<button
					type="button"
					className="button-quiet px-1.5"
					aria-label="Back"
					disabled={trail.at === 0}
					onClick={() => step(-1)}
				>
					<ArrowLeftIcon className="size-4" />
				</button>
				<button
					type="button"
					className="button-quiet px-1.5"
					aria-label="Forward"
					disabled={trail.at >= trail.list.length - 1}
					onClick={() => step(1)}
				>
					<ArrowRightIcon className="size-4" />
				</button>
				<button type="button" className="button-quiet px-1.5" aria-label="Up" onClick={() => go(parent(path, os))}>
					<ArrowUpIcon className="size-4" />
				</button>
				<nav aria-label="Folders above" className="flex min-w-0 flex-1 flex-wrap items-center">
					{crumbs(path, os).map((c, i, all) => (
						<span key={c.path} className="flex items-center">
							{i > 1 && <span className="text-faint">/</span>}
							<button
								type="button"
								className="min-w-7 rounded px-1 py-0.5 hover:bg-heather-tint"
								aria-current={i === all.length - 1 ? "page" : undefined}
								onClick={() => go(c.path)}
							>
								{visible(c.name)}
							</button>
						</span>
					))}
				</nav>
				<TextField
					label="Filter files"
					hidden
					className="max-w-36 py-0.5"
					type="search"
					placeholder="Filter"
					value={filter}
					onChange={setFilter}
				/>
				<button type="button" className="button-quiet px-1.5" aria-label="Read again" onClick={again}>
					<ArrowPathIcon className="size-4" />
				</button>
			</Controls>
			<Actions
				device={device}
				folder={path}
				picked={picked}
				at={at}
				may={may}
				busy={action.isPending}
				act={action.mutate}
				upload={upload}
				open={open}
				go={go}
			/>
			{list.error !== undefined && <ProblemAlert error={list.error} retry={again} />}
			{!done && entries.length === 0 && list.error === undefined && <Waiting what="the folder" />}
			{done && rows.length === 0 && (
				<Empty title={filter ? "No name holds that." : "This folder is empty."}>
					{may && !filter && "Drop files here to send them."}
				</Empty>
			)}
			{/* biome-ignore lint/a11y/noStaticElementInteractions: dropping files is one way of two; the buttons are the other */}
			<div
				className={`min-h-0 flex-1 ${over ? "bg-heather-tint" : ""}`}
				onDragOver={(e) => {
					if (!may) return;
					e.preventDefault();
					setOver(true);
				}}
				onDragLeave={() => setOver(false)}
				onDrop={(e) => {
					e.preventDefault();
					setOver(false);
					if (may) dropped(e.dataTransfer).then(upload);
				}}
			>
				{rows.length > 0 && (
					<Grid
						label="Files"
						rows={rows}
						columns={columns}
						id={(e) => e.name}
						chosen={chosen}
						onChoose={setChosen}
						onOpen={(e) =>
							e.kind === "folder" || e.kind === "link"
								? go(at(e))
								: e.kind === "file" && read && open({ path: at(e), how: "edit" })
						}
					/>
				)}
			</div>
			<p className="border-line border-t px-3 py-1 text-faint text-sm tabular-nums" role="status">
				{picked.length > 0
					? `${picked.length} of ${entries.length} chosen, ${bytes(picked.reduce((n, e) => n + e.size, 0))}`
					: `${entries.length} entries${done ? "" : "…"}`}
				{one?.kind === "file" && <Digest key={paths[0]} device={device} path={paths[0] ?? ""} />}
				{action.isSuccess && `. Done to ${action.data.done}.`}
			</p>
			{action.isSuccess && action.data.failed.length > 0 && (
				<ul role="alert" className="max-h-28 overflow-auto bg-rowan-tint px-3 py-1">
					{action.data.failed.map((f) => (
						<li key={f}>{f}</li>
					))}
				</ul>
			)}
			{action.isError && <ProblemAlert error={action.error} />}
		</>
	);
}

/** What can be done to what is chosen. */
function Actions({
	device,
	folder,
	picked,
	at,
	may,
	busy,
	act,
	upload,
	open,
	go,
}: {
	device: Device;
	folder: string;
	picked: Entry[];
	at: (e: Entry) => string;
	may: boolean;
	busy: boolean;
	act: (d: Schemas["FileAction"]) => void;
	upload: (files: Iterable<{ file: File; path: string }>) => void;
	open: (what: { path: string; how: "edit" | "follow" } | "removed") => void;
	go: (path: string) => void;
}) {
	const administer = useMay("files.administer");
	const read = useMay("files.read");
	const files = useRef<HTMLInputElement>(null);
	const folders = useRef<HTMLInputElement>(null);
	const one = picked.length === 1 ? picked[0] : undefined;
	const paths = picked.map(at);
	const what = picked.length === 1 ? visible(picked[0]?.name ?? "") : `${picked.length} things`;
	const base = `/api/v1/devices/${device.id}/files`;
	const chosenFiles = (input: HTMLInputElement) => {
		upload([...(input.files ?? [])].map((file) => ({ file, path: file.webkitRelativePath || file.name })));
		input.value = "";
	};
	return (
		<div className="flex flex-wrap items-center gap-x-0.5 border-line border-b px-2 text-sm">
			{may && (
				<>
					<input ref={files} type="file" multiple hidden onChange={(e) => chosenFiles(e.currentTarget)} />
					<input
						ref={folders}
						type="file"
						hidden
						{...{ webkitdirectory: "" }}
						onChange={(e) => chosenFiles(e.currentTarget)}
					/>
					<button type="button" className="button-quiet" onClick={() => files.current?.click()}>
						Send files
					</button>
					<button type="button" className="button-quiet" onClick={() => folders.current?.click()}>
						Send a folder
					</button>
					<AskLine
						label="New folder"
						title={`New folder in ${folder}`}
						verb="Make it"
						field="Name"
						disabled={busy}
						onDo={(name) => act({ action: "make", paths: [join(folder, name, device.os)] })}
					/>
				</>
			)}
			{one?.kind === "file" && read && (
				<>
					<a
						className="button-quiet"
						href={`${base}/content?path=${encodeURIComponent(paths[0] ?? "")}`}
						download={one.name}
					>
						Fetch
					</a>
					<button type="button" className="button-quiet" onClick={() => open({ path: paths[0] ?? "", how: "edit" })}>
						{may ? "Edit" : "View"}
					</button>
					<button type="button" className="button-quiet" onClick={() => open({ path: paths[0] ?? "", how: "follow" })}>
						Follow
					</button>
				</>
			)}
			{one && one.kind !== "link" && device.os === "windows" && (
				<Access key={paths[0]} device={device} path={paths[0] ?? ""} name={one.name} />
			)}
			{one?.kind === "folder" && (
				<button type="button" className="button-quiet" onClick={() => go(paths[0] ?? "")}>
					Open
				</button>
			)}
			{read && picked.length > 0 && (picked.length > 1 || one?.kind === "folder") && (
				<a
					className="button-quiet"
					href={`${base}/archive?format=zip&${paths.map((p) => `path=${encodeURIComponent(p)}`).join("&")}`}
					download
				>
					Fetch as zip
				</a>
			)}
			{may && picked.length > 0 && (
				<>
					{one && (
						<AskLine
							label="Rename"
							title={`Rename ${what}`}
							verb="Rename"
							field="New name"
							usual={one.name}
							disabled={busy}
							onDo={(name) => act({ action: "rename", paths, to: join(folder, name, device.os) })}
						/>
					)}
					<AskLine
						label="Copy"
						title={`Copy ${what} into which folder?`}
						verb="Copy"
						field="Folder"
						usual={folder}
						disabled={busy}
						onDo={(to) => act({ action: "copy", paths, to })}
					/>
					<AskLine
						label="Move"
						title={`Move ${what} into which folder?`}
						verb="Move"
						field="Folder"
						usual={folder}
						disabled={busy}
						onDo={(to) => act({ action: "move", paths, to })}
					/>
					{administer && device.os !== "windows" && (
						<AskLine
							label="Permissions"
							title={`Permission bits of ${what}`}
							verb="Set them"
							field="Bits"
							usual={one?.bits ?? "0644"}
							disabled={busy}
							onDo={(bits) => act({ action: "permit", paths, bits })}
						/>
					)}
					<Confirm
						label="Remove"
						title={`Remove ${what}?`}
						verb={`Remove ${picked.length}`}
						disabled={busy}
						onDo={() => act({ action: "remove", paths })}
					>
						<p>
							{picked.length === 1 ? "It goes" : "They go"} to the recoverable place of the disk of {device.name}, and
							can be restored from there.
						</p>
						<ul className="list-disc pl-5">
							{picked.slice(0, 10).map((e) => (
								<li key={e.name}>
									{visible(e.name)}
									{e.kind === "folder" && " with all that is in it"}
								</li>
							))}
							{picked.length > 10 && <li>and {picked.length - 10} more</li>}
						</ul>
					</Confirm>
				</>
			)}
			<button type="button" className="button-quiet ml-auto" onClick={() => open("removed")}>
				Removed
			</button>
		</div>
	);
}

function Digest({ device, path }: { device: Device; path: string }) {
	const read = useMutation({
		mutationFn: () =>
			answer(
				api.GET("/devices/{id}/files/entry", {
					params: { path: { id: device.id }, query: { path, digest: "sha256" } },
				}),
			),
	});
	if (read.data) return <span className="ml-2 font-mono text-xs break-all">SHA-256 {read.data.digest}</span>;
	return (
		<button
			type="button"
			className="button-quiet ml-1 py-0 text-sm"
			disabled={read.isPending}
			onClick={() => read.mutate()}
		>
			{read.isPending ? "Reading…" : read.isError ? "It cannot be read" : "Checksum"}
		</button>
	);
}

/** The files that were dropped, with those of folders at their paths below them. */
async function dropped(data: DataTransfer) {
	const found: { file: File; path: string }[] = [];
	const walk = async (entry: FileSystemEntry, above: string): Promise<void> => {
		if (entry.isFile) {
			const file = await new Promise<File>((ok, bad) => (entry as FileSystemFileEntry).file(ok, bad));
			found.push({ file, path: above + entry.name });
			return;
		}
		const reader = (entry as FileSystemDirectoryEntry).createReader();
		for (;;) {
			const some = await new Promise<FileSystemEntry[]>((ok, bad) => reader.readEntries(ok, bad));
			if (some.length === 0) return;
			for (const e of some) await walk(e, `${above}${entry.name}/`);
		}
	};
	for (const entry of [...data.items].map((i) => i.webkitGetAsEntry())) if (entry) await walk(entry, "");
	return found;
}
