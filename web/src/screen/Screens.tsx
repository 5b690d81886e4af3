import { PencilIcon, XMarkIcon } from "@heroicons/react/20/solid";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import { Permitted } from "../api/me";
import { read } from "../api/queries";
import { useDevices } from "../fleet/devices";
import { Choice } from "../parts/Editor";
import { SelectField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Headed, OnBench } from "../tools/Pane";
import { ScreenPane } from "./ScreenPane";

const ways = ["tiles", "tabs"] as const;

/** One screen of those that are open: a device, and what it is called here. */
type One = { id: string; name: string };

/** Several screens at once, as tiles or as tabs. Which they are, and their names, stand in the address. */
export default function Screens() {
	const [params, setParams] = useSearchParams();
	const devices = useDevices();
	const [front, setFront] = useState("");
	const all: One[] = params.getAll("of").map((text) => {
		const [id = "", ...name] = text.split(":");
		return { id, name: name.join(":") };
	});
	const as = ways.find((w) => w === params.get("as")) ?? "tiles";
	const put = (next: One[], way: string = as) => {
		const p = new URLSearchParams();
		for (const o of next) p.append("of", o.name ? `${o.id}:${o.name}` : o.id);
		if (way !== "tiles") p.set("as", way);
		setParams(p, { replace: true });
	};
	useEffect(() => {
		document.title = "Screens – Moorwatch";
	}, []);
	const free = [...(devices.data?.values() ?? [])]
		.filter((d) => d.online && d.capabilities.includes("screen") && !all.some((o) => o.id === d.id))
		.sort((a, b) => a.name.localeCompare(b.name, undefined, { numeric: true }));
	const shown = as === "tabs" ? (all.find((o) => o.id === front) ?? all[0])?.id : undefined;
	const columns = Math.ceil(Math.sqrt(all.length));
	return (
		<div className="flex h-full flex-col">
			<div className="flex flex-wrap items-center gap-x-3 gap-y-1 border-line border-b px-4 py-1.5">
				<h1 className="font-semibold text-xl">Screens</h1>
				<div role="toolbar" aria-label="Arranged as" className="flex">
					<Choice
						of={ways}
						chosen={as}
						name={(w) => (w === "tiles" ? "Tiles" : "Tabs")}
						onChoose={(w) => put(all, w)}
					/>
				</div>
				<SelectField
					label="Open another screen"
					hidden
					className="w-52 py-1"
					value=""
					onChange={(v) => {
						setFront(v);
						put([...all, { id: v, name: "" }]);
					}}
				>
					<option value="">Open another screen…</option>
					{free.map((d) => (
						<option key={d.id} value={d.id}>
							{d.name}
							{d.people[0] ? `, ${d.people[0]}` : ""}
						</option>
					))}
				</SelectField>
				{as === "tabs" && (
					<div role="toolbar" aria-label="Tabs" className="flex flex-wrap gap-1">
						{all.map((o) => (
							<button
								key={o.id}
								type="button"
								aria-pressed={o.id === shown}
								className={`rounded-md px-2 py-0.5 ${o.id === shown ? "bg-heather-tint font-medium text-heather" : "text-faint hover:text-word"}`}
								onClick={() => setFront(o.id)}
							>
								{o.name || devices.data?.get(o.id)?.name}
							</button>
						))}
					</div>
				)}
			</div>
			{all.length === 0 && (
				<Empty title="No screen is open here.">Choose a device above. The person at it may be asked.</Empty>
			)}
			<div
				className="grid min-h-0 flex-1"
				style={
					as === "tiles"
						? { gridTemplateColumns: `repeat(${columns}, minmax(0, 1fr))`, gridAutoRows: "minmax(0, 1fr)" }
						: undefined
				}
			>
				{all.map((o) => (
					<div
						key={o.id}
						className={`min-h-0 min-w-0 flex-col border-line border-r border-b ${shown && o.id !== shown ? "hidden" : "flex"}`}
					>
						<Tile
							one={o}
							onName={(name) => put(all.map((x) => (x.id === o.id ? { ...x, name } : x)))}
							onClose={() => put(all.filter((x) => x.id !== o.id))}
						/>
					</div>
				))}
			</div>
		</div>
	);
}

/** One of them, with its name above. */
function Tile({ one, onName, onClose }: { one: One; onName: (name: string) => void; onClose: () => void }) {
	const [naming, setNaming] = useState(false);
	const detail = useQuery(read("/devices/{id}", { path: { id: one.id } }));
	if (detail.isPending) return <Waiting what="the device" />;
	if (detail.isError)
		return (
			<div className="p-4">
				<ProblemAlert error={detail.error} retry={() => detail.refetch()} />
				<button type="button" className="button-quiet mt-2" onClick={onClose}>
					Close it
				</button>
			</div>
		);
	const { device, permissions } = detail.data;
	const heading = (
		<>
			{naming ? (
				<form
					className="flex gap-1"
					onSubmit={(e) => {
						e.preventDefault();
						const name = new FormData(e.currentTarget).get("name");
						onName(typeof name === "string" ? name.trim() : "");
						setNaming(false);
					}}
				>
					<input
						name="name"
						className="field w-40 py-0.5"
						aria-label="Name of this screen"
						defaultValue={one.name || device.name}
						maxLength={60}
						ref={(e) => e?.focus()}
					/>
					<button type="submit" className="button-quiet">
						Name it
					</button>
				</form>
			) : (
				<>
					<h2 className="truncate font-semibold">{one.name || device.name}</h2>
					{one.name && <span className="truncate text-faint text-sm">{device.name}</span>}
					<button
						type="button"
						className="rounded p-1 text-faint hover:text-word"
						aria-label={`Rename ${one.name || device.name}`}
						onClick={() => setNaming(true)}
					>
						<PencilIcon className="size-4" />
					</button>
				</>
			)}
			<button
				type="button"
				className="order-last rounded p-0.5 text-faint hover:text-word"
				aria-label={`Close ${one.name || device.name}`}
				onClick={onClose}
			>
				<XMarkIcon className="size-5" />
			</button>
		</>
	);
	return (
		<Permitted value={permissions}>
			<OnBench value={undefined}>
				<Headed value={heading}>
					<ScreenPane device={device} onClose={onClose} />
				</Headed>
			</OnBench>
		</Permitted>
	);
}
