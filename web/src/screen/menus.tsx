import { Menu, MenuButton, MenuItem, MenuItems, Popover, PopoverButton, PopoverPanel } from "@headlessui/react";
import {
	AdjustmentsVerticalIcon,
	ChevronDownIcon,
	ComputerDesktopIcon,
	EllipsisHorizontalCircleIcon,
} from "@heroicons/react/20/solid";
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import type { Schemas } from "../api/client";
import { useMay } from "../api/me";
import { read } from "../api/queries";
import { Choice } from "../parts/Editor";
import { Consoles } from "./Consoles";
import type { Connection } from "./connection";

const panel = "z-30 rounded-md border border-line bg-raised p-1 shadow-lg";
const item = "flex w-full items-center gap-2 rounded px-2 py-1 text-left data-focus:bg-heather-tint";

/** Which desktop of the device is looked at, and which of its monitors. */
export function MonitorMenu({
	device,
	connection,
	begin,
}: {
	device: string;
	connection?: Connection;
	begin?: Schemas["ScreenBegin"];
}) {
	const [chosen, setChosen] = useState<string[]>([]);
	const desktops = useQuery({ ...read("/devices/{id}/screen/desktops", { path: { id: device } }), staleTime: 10_000 });
	const [consoles, setConsoles] = useState(false);
	const list = desktops.data?.items ?? [];
	const monitors = begin?.monitors ?? [];
	const may = useMay("policy.manage");
	if (list.length < 2 && monitors.length < 2 && !may) return null;
	const choose = (names: string[]) => {
		setChosen(names);
		connection?.want({ monitors: names });
	};
	const turn = (name: string) => {
		const next = chosen.includes(name) ? chosen.filter((n) => n !== name) : [...chosen, name];
		choose(next.length === monitors.length ? [] : next);
	};
	const shown = chosen.length === 0 ? (monitors.length > 1 ? "All monitors" : "Desktop") : chosen.join(", ");
	return (
		<>
			{consoles && <Consoles device={device} onClose={() => setConsoles(false)} />}
			<Menu>
				<MenuButton className="button-quiet">
					<ComputerDesktopIcon className="size-4" aria-hidden="true" />
					{shown}
					<ChevronDownIcon className="size-4" aria-hidden="true" />
				</MenuButton>
				<MenuItems anchor="bottom start" className={`${panel} min-w-60 max-w-96`}>
					{monitors.length > 1 && (
						<>
							<Line checked={chosen.length === 0} onPress={() => choose([])}>
								All monitors
							</Line>
							{monitors.map((m) => (
								<Line key={m.name} checked={chosen.includes(m.name)} onPress={() => turn(m.name)}>
									{m.name}{" "}
									<span className="text-faint">
										{m.width} × {m.height}
										{m.primary && ", first"}
									</span>
								</Line>
							))}
						</>
					)}
					{list.length > 1 && monitors.length > 1 && <div className="my-1 border-line border-t" />}
					{list.length > 1 &&
						list.map((d) => (
							<MenuItem key={d.id + d.name} disabled={!!d.missing}>
								<button
									type="button"
									className={`${item} data-disabled:text-faint`}
									title={d.missing}
									onClick={() => connection?.restart(d.id)}
								>
									<Tick on={begin?.desktop.id === d.id} />
									<span>
										{d.title}
										{d.locked && <span className="text-faint">, locked</span>}
										{d.missing && <span className="block text-sm">{d.missing}</span>}
									</span>
								</button>
							</MenuItem>
						))}
					{(list.length > 1 || monitors.length > 1) && <div className="my-1 border-line border-t" />}
					<MenuItem>
						<button type="button" className={item} onClick={() => setConsoles(true)}>
							<Tick on={false} />
							Consoles over the network…
						</button>
					</MenuItem>
				</MenuItems>
			</Menu>
		</>
	);
}

function Tick({ on }: { on: boolean }) {
	return <span className="w-3 text-heather">{on ? "✓" : ""}</span>;
}

function Line({ checked, onPress, children }: { checked: boolean; onPress: () => void; children: ReactNode }) {
	return (
		<MenuItem>
			<button
				type="button"
				className={item}
				onClick={(e) => {
					e.preventDefault(); // more than one may be chosen
					onPress();
				}}
			>
				<Tick on={checked} />
				<span>{children}</span>
			</button>
		</MenuItem>
	);
}

const qualities = [0, 30, 60, 85, 101] as const;
const scales = [0, 1, 2, 3, 4] as const;
const colours = ["", "all", "fewer", "grey"] as const;
const rates = [0, 5, 15, 30, 60] as const;

/** How the picture is sent: by itself, or as somebody wants it. */
export function OptionsMenu({ connection, link }: { connection?: Connection; link?: Schemas["ScreenLink"] }) {
	const [options, setOptions] = useState({ quality: 0 as number, scale: 0 as number, colours: "", rate: 0 as number });
	const want = (more: Partial<typeof options>) => {
		setOptions({ ...options, ...more });
		connection?.want(more);
	};
	const own = options.quality || options.scale || options.colours || options.rate;
	return (
		<Popover>
			<PopoverButton className={`button-quiet ${own ? "bg-heather-tint" : ""}`}>
				<AdjustmentsVerticalIcon className="size-4" aria-hidden="true" />
				Picture quality
			</PopoverButton>
			<PopoverPanel
				anchor="bottom start"
				className={`${panel} grid max-w-[90vw] grid-cols-[auto_1fr] items-center gap-x-3 gap-y-1 p-3`}
			>
				<Row name="Photographs">
					<Choice
						of={qualities}
						chosen={qualities.find((q) => q === options.quality)}
						name={(q) => ({ 0: "by the link", 30: "rough", 60: "fair", 85: "good", 101: "exact" })[q]}
						onChoose={(quality) => want({ quality })}
					/>
				</Row>
				<Row name="Size">
					<Choice
						of={scales}
						chosen={scales.find((s) => s === options.scale)}
						name={(s) => (s === 0 ? "by the link" : s === 1 ? "full" : `1/${s}`)}
						onChoose={(scale) => want({ scale })}
					/>
				</Row>
				<Row name="Colours">
					<Choice
						of={colours}
						chosen={colours.find((c) => c === options.colours)}
						name={(c) => ({ "": "by the link", all: "all", fewer: "fewer", grey: "grey" })[c]}
						onChoose={(c) => want({ colours: c })}
					/>
				</Row>
				<Row name="Pictures a second">
					<Choice
						of={rates}
						chosen={rates.find((r) => r === options.rate)}
						name={(r) => (r === 0 ? "by the link" : `at most ${r}`)}
						onChoose={(rate) => want({ rate })}
					/>
				</Row>
				{link && (
					<p className="col-span-2 mt-1 text-faint text-sm">
						The link carries about {Math.max(1, Math.round(link.link_per_second / 1000)).toLocaleString()} kB a second;
						a change is drawn {Math.round(link.trip_seconds * 1000)} ms after it was sent.
						{link.quality > 0 &&
							` Photographs that move are sent at quality ${link.quality}, and exactly once they are still.`}
						{link.scale > 1 && ` It is sent ${link.scale} times smaller each way.`}
						{link.colours && " It has fewer colours than there."}
					</p>
				)}
			</PopoverPanel>
		</Popover>
	);
}

function Row({ name, children }: { name: string; children: ReactNode }) {
	return (
		<>
			<span className="text-faint text-sm">{name}</span>
			<div role="toolbar" aria-label={name} className="flex flex-wrap">
				{children}
			</div>
		</>
	);
}

/** Keys that the browser or this computer keeps for itself. */
const combinations: { name: string; keys: [key: string, code: string][] }[] = [
	{ name: "System key", keys: [["Meta", "MetaLeft"]] },
	{
		name: "Alt + Tab",
		keys: [
			["Alt", "AltLeft"],
			["Tab", "Tab"],
		],
	},
	{
		name: "Alt + F4",
		keys: [
			["Alt", "AltLeft"],
			["F4", "F4"],
		],
	},
	{
		name: "Ctrl + Esc",
		keys: [
			["Control", "ControlLeft"],
			["Escape", "Escape"],
		],
	},
	{
		name: "Ctrl + W",
		keys: [
			["Control", "ControlLeft"],
			["w", "KeyW"],
		],
	},
	{ name: "Print screen", keys: [["PrintScreen", "PrintScreen"]] },
	{ name: "F11", keys: [["F11", "F11"]] },
	{
		name: "Shift + Esc",
		keys: [
			["Shift", "ShiftLeft"],
			["Escape", "Escape"],
		],
	},
];

export function KeyMenu({
	connection,
	enabled,
	byPlace,
	setByPlace,
	onType,
	onFull,
}: {
	connection?: Connection;
	enabled: boolean;
	byPlace: boolean;
	setByPlace: (on: boolean) => void;
	onType: () => void;
	onFull: () => void;
}) {
	const press = (keys: [string, string][]) => {
		for (const [key, code] of keys) connection?.key({ key, code, down: true });
		for (const [key, code] of keys.toReversed()) connection?.key({ key, code, down: false });
	};
	return (
		<Menu>
			<MenuButton className="button-quiet">
				<EllipsisHorizontalCircleIcon className="size-4" aria-hidden="true" />
				Keys
			</MenuButton>
			<MenuItems anchor="bottom start" className={`${panel} min-w-60`}>
				<Press disabled={!enabled} onPress={() => connection?.send({ attend: true })}>
					Ctrl + Alt + Del
				</Press>
				{combinations.map((c) => (
					<Press key={c.name} disabled={!enabled} onPress={() => press(c.keys)}>
						{c.name}
					</Press>
				))}
				<div className="my-1 border-line border-t" />
				<Press disabled={!enabled} onPress={onType}>
					Type what your clipboard holds
				</Press>
				<Press onPress={onFull}>Full screen, with all keys</Press>
				<Press onPress={() => setByPlace(!byPlace)}>
					<Tick on={byPlace} />
					Keys by place, not by what they mean
				</Press>
			</MenuItems>
		</Menu>
	);
}

function Press({ disabled, onPress, children }: { disabled?: boolean; onPress: () => void; children: ReactNode }) {
	return (
		<MenuItem disabled={disabled}>
			<button type="button" className={`${item} data-disabled:text-faint`} onClick={onPress}>
				{children}
			</button>
		</MenuItem>
	);
}
