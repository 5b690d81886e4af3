import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import type { Device, Schemas } from "../api/client";
import { lines } from "../api/lines";
import { useMay } from "../api/me";
import { read } from "../api/queries";
import { Choice } from "../parts/Editor";
import { Grid, type GridColumn } from "../parts/Grid";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Controls, Pane } from "./Pane";

const views = ["Addresses", "Connections", "Neighbours", "Reach"] as const;
type Network = Schemas["Network"];

/** The network as the device sees it. */
export function NetworkPane({ device, onClose }: { device: Device; onClose: () => void }) {
	const [view, setView] = useState<(typeof views)[number]>("Addresses");
	const act = useMay("network.act");
	const look = useQuery(read("/devices/{id}/network", { path: { id: device.id } }));
	return (
		<Pane title="Network" onClose={onClose}>
			<Controls>
				<Choice of={act ? views : views.slice(0, 3)} chosen={view} name={(v) => v} onChoose={setView} />
				<button
					type="button"
					className="button-quiet ml-auto text-sm"
					onClick={() => look.refetch()}
					disabled={look.isFetching}
				>
					{look.isFetching ? "Looking…" : "Look again"}
				</button>
			</Controls>
			{look.isError && <ProblemAlert error={look.error} retry={() => look.refetch()} />}
			{look.isPending && <Waiting what="the network" />}
			{look.data && view === "Addresses" && <Addresses network={look.data} />}
			{look.data && view === "Connections" && <Connections network={look.data} />}
			{look.data && view === "Neighbours" && <Neighbours device={device} network={look.data} scan={act} />}
			{look.data && view === "Reach" && <Reach device={device} />}
		</Pane>
	);
}

function Addresses({ network: n }: { network: Network }) {
	return (
		<div className="space-y-4 overflow-auto px-3 py-2">
			<Table
				rows={n.interfaces}
				id={(i) => i.name}
				className={(i) => (i.up ? "" : "text-faint")}
				columns={[
					{
						head: "Interface",
						className: "font-medium",
						value: (i) => i.name,
						show: (i) => (
							<>
								{i.name}
								{!i.up && ", down"}
							</>
						),
					},
					{ head: "Hardware", className: "font-mono text-sm", value: (i) => i.hardware },
					{ head: "Addresses", className: "font-mono text-sm", show: (i) => i.addresses.join(", ") },
					{ head: "MTU", right: true, value: (i) => i.mtu },
				]}
			/>
			<p>
				<span className="text-faint">Names are asked of </span>
				<span className="font-mono text-sm">{n.resolvers.join(", ") || "nobody"}</span>
				{n.search && n.search.length > 0 && <span className="text-faint"> in {n.search.join(", ")}</span>}
			</p>
			<Table
				rows={n.routes}
				id={(r) => `${r.to} ${r.interface} ${r.by}`}
				columns={[
					{
						head: "Route to",
						className: "font-mono text-sm",
						show: (r) => (r.to === "0.0.0.0/0" ? "everything else" : r.to),
					},
					{ head: "By", className: "font-mono text-sm", show: (r) => r.by ?? "directly" },
					{ head: "Interface", value: (r) => r.interface },
					{ head: "Metric", right: true, value: (r) => r.metric },
				]}
			/>
		</div>
	);
}

const connectionColumns: GridColumn<Schemas["Connection"]>[] = [
	{ id: "protocol", head: "Kind", width: "3rem", value: (c) => c.protocol },
	{ id: "local", head: "Here", width: "minmax(9rem, 1fr)", value: (c) => c.local },
	{ id: "remote", head: "There", width: "minmax(9rem, 1fr)", value: (c) => c.remote ?? "" },
	{ id: "state", head: "State", width: "7rem", value: (c) => c.state ?? "" },
	{
		id: "process",
		head: "Process",
		width: "minmax(7rem, 1fr)",
		value: (c) => (c.pid ? `${c.process} (${c.pid})` : ""),
	},
];

function Connections({ network: n }: { network: Network }) {
	const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
	const rows = n.connections.map((c, i) => ({ ...c, i }));
	return (
		<div className="min-h-0 flex-1">
			<Grid
				label="Connections"
				rows={rows}
				columns={connectionColumns as GridColumn<(typeof rows)[number]>[]}
				id={(c) => String(c.i)}
				chosen={chosen}
				onChoose={setChosen}
				keep
			/>
		</div>
	);
}

const ports: Record<number, string> = {
	22: "SSH",
	80: "web",
	135: "Windows",
	139: "files",
	443: "web",
	445: "files",
	515: "printer",
	631: "printer",
	3389: "remote desktop",
	5900: "screen",
	5985: "Windows",
	8080: "web",
	9100: "printer",
	62078: "phone",
};

function Neighbours({ device, network, scan: may }: { device: Device; network: Network; scan: boolean }) {
	const own = network.interfaces
		.flatMap((i) => i.addresses)
		.filter((a) => /^\d+\.\d+\.\d+\.\d+\/\d+$/.test(a) && !a.startsWith("127."));
	const [found, setFound] = useState<Schemas["Neighbour"][]>([]);
	const [state, setState] = useState<{ tried: number; of: number }>();
	const [error, setError] = useState<unknown>();
	const stop = useRef<AbortController>(undefined);
	const scan = async (net: string) => {
		const mine = new AbortController();
		stop.current = mine;
		setError(undefined);
		setState({ tried: 0, of: 0 });
		try {
			await lines<Schemas["ScanEvent"]>(
				`/devices/${device.id}/network/scan`,
				mine.signal,
				(e) => {
					if (e.tried) setState({ tried: e.tried, of: e.of ?? 0 });
					const n = e.found;
					if (n) setFound((old) => [...old.filter((o) => o.address !== n.address), n]);
				},
				{ network: net },
			);
		} catch (problem) {
			if (!mine.signal.aborted) setError(problem);
		}
		setState(undefined);
	};
	const known = new Map(network.neighbours.map((n) => [n.address, n]));
	const rows = [...known.values(), ...found.filter((n) => !known.has(n.address))].map((n) => ({
		...n,
		open: found.find((f) => f.address === n.address)?.open ?? n.open,
	}));
	return (
		<div className="overflow-auto px-3 py-2">
			{may && own.length > 0 && (
				<p className="mb-2 flex flex-wrap items-center gap-2">
					{state ? (
						<>
							<span role="status" className="tabular-nums">
								{state.tried} of {state.of || "…"} addresses tried
							</span>
							<button type="button" className="button-quiet" onClick={() => stop.current?.abort()}>
								End
							</button>
						</>
					) : (
						own.slice(0, 3).map((a) => (
							<button key={a} type="button" className="button-quiet" onClick={() => scan(a)}>
								Scan {a}
							</button>
						))
					)}
					<span className="text-faint text-sm">
						finds what has no agent yet; a few ports of each address are knocked at
					</span>
				</p>
			)}
			{error !== undefined && <ProblemAlert error={error} />}
			<Table
				rows={rows}
				id={(n) => n.address}
				columns={[
					{ head: "Address", className: "font-mono text-sm", value: (n) => n.address },
					{ head: "Hardware", className: "font-mono text-sm", value: (n) => n.hardware },
					{
						head: "What it is",
						value: (n) => n.device,
						show: (n) =>
							n.device_id ? (
								<Link to={`/devices/${n.device_id}`} className="link underline">
									{n.device}
								</Link>
							) : (
								<span className="text-gorse">{n.name ? `${n.name}, ` : ""}no agent</span>
							),
					},
					{ head: "Answers at", show: (n) => n.open?.map((p) => `${p}${ports[p] ? ` ${ports[p]}` : ""}`).join(", ") },
				]}
			/>
			{rows.length === 0 && <p className="py-4 text-faint">The device has met nobody on its networks.</p>}
		</div>
	);
}

const kinds = [
	{ kind: "echo", name: "Echo", hint: "a host or address" },
	{ kind: "tcp", name: "Port", hint: "a host or address" },
	{ kind: "name", name: "Name", hint: "a name to look up" },
	{ kind: "web", name: "Page", hint: "https://…" },
] as const;

function Reach({ device }: { device: Device }) {
	const [kind, setKind] = useState<(typeof kinds)[number]>(kinds[0]);
	const [target, setTarget] = useState("");
	const [port, setPort] = useState(443);
	const [results, setResults] = useState<Schemas["ReachResult"][]>([]);
	const [busy, setBusy] = useState(false);
	const [error, setError] = useState<unknown>();
	const test = async () => {
		setBusy(true);
		setResults([]);
		setError(undefined);
		try {
			await lines<Schemas["ReachResult"]>(
				`/devices/${device.id}/network/reach`,
				new AbortController().signal,
				(r) => setResults((old) => [...old, r]),
				{ kind: kind.kind, target, port: kind.kind === "tcp" ? port : undefined, times: 4 },
			);
		} catch (problem) {
			setError(problem);
		}
		setBusy(false);
	};
	return (
		<form
			className="space-y-3 overflow-auto px-3 py-2"
			onSubmit={(e) => {
				e.preventDefault();
				test();
			}}
		>
			<div className="flex flex-wrap items-center gap-2">
				<Choice of={kinds} chosen={kind} name={(k) => k.name} onChoose={setKind} />
				<input
					className="field max-w-72"
					aria-label="Target"
					placeholder={kind.hint}
					value={target}
					spellCheck={false}
					onChange={(e) => setTarget(e.target.value)}
				/>
				{kind.kind === "tcp" && (
					<input
						className="field w-24"
						aria-label="Port"
						type="number"
						min={1}
						max={65535}
						value={port}
						onChange={(e) => setPort(Number(e.target.value))}
					/>
				)}
				<button type="submit" className="button" disabled={busy || !target}>
					{busy ? "Testing…" : "Test"}
				</button>
			</div>
			{error !== undefined && <ProblemAlert error={error} />}
			<ul>
				{results.map((r, i) => (
					<li key={i} className={r.done ? "mt-1 font-medium" : ""}>
						<span className={r.ok ? "text-moss" : "text-rowan"}>{r.ok ? "✓" : "✕"}</span> {r.text}
						{r.milliseconds !== undefined && (
							<span className="text-faint tabular-nums"> {r.milliseconds.toFixed(1)} ms</span>
						)}
					</li>
				))}
			</ul>
		</form>
	);
}
