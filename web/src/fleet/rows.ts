import type { Device } from "../api/client";
import { compare, inOrder } from "../parts/columns";

/** A column of the device list. */
export type Column = {
	id: string;
	head: string;
	width: string; // of the grid
	text: (d: Device) => string;
	/** What it is sorted by; numbers sort greatest first, those without any last. */
	key: (d: Device) => string | number | undefined;
	right?: boolean;
};

const system: Record<string, string> = { windows: "Windows", macos: "macOS", linux: "Linux" };
const harm = { failing: 0, degraded: 1, healthy: 2, silent: 3 } as const;
const whole = (n: number | undefined) => (n === undefined ? "" : `${n.toFixed(0)} %`);

export const columns: Column[] = [
	{ id: "name", head: "Name", width: "minmax(9rem,1.4fr)", text: (d) => d.name, key: (d) => d.name.toLowerCase() },
	{ id: "condition", head: "Condition", width: "7.5rem", text: (d) => d.condition, key: (d) => harm[d.condition] },
	{
		id: "organisation",
		head: "Organisation",
		width: "minmax(8rem,1.2fr)",
		text: (d) => d.organisation,
		key: (d) => d.organisation,
	},
	{ id: "site", head: "Site", width: "minmax(8rem,1.2fr)", text: (d) => d.site, key: (d) => d.site },
	{
		id: "people",
		head: "Person",
		width: "minmax(7rem,1fr)",
		text: (d) => d.people.join(", "),
		key: (d) => d.people.join(", "),
	},
	{ id: "os", head: "System", width: "6rem", text: (d) => system[d.os] ?? d.os, key: (d) => d.os },
	{
		id: "version",
		head: "Version",
		width: "minmax(9rem,1fr)",
		text: (d) => [d.os_name, d.os_version].filter(Boolean).join(" "),
		key: (d) => [d.os_name, d.os_version].filter(Boolean).join(" "),
	},
	{
		id: "address",
		head: "Address",
		width: "8rem",
		text: (d) => d.addresses[0] ?? "",
		key: (d) => d.addresses[0],
	},
	{ id: "cpu", head: "CPU", width: "4.2rem", text: (d) => whole(d.cpu), key: (d) => d.cpu, right: true },
	{
		id: "memory",
		head: "Memory",
		width: "5rem",
		text: (d) => whole(d.memory),
		key: (d) => d.memory,
		right: true,
	},
	{ id: "disk", head: "Disk", width: "4.2rem", text: (d) => whole(d.disk), key: (d) => d.disk, right: true },
	{ id: "model", head: "Model", width: "minmax(8rem,1fr)", text: (d) => d.model, key: (d) => d.model },
	{ id: "serial", head: "Serial", width: "8rem", text: (d) => d.serial, key: (d) => d.serial },
	{ id: "agent", head: "Agent", width: "5rem", text: (d) => d.agent_version, key: (d) => d.agent_version },
];

export const usualColumns = ["name", "condition", "site", "people", "os", "address", "cpu", "memory", "disk"];

/** Whether every word of what was typed stands in a device's name, place, address, person or serial. */
export function matches(d: Device, typed: string) {
	const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
	if (words.length === 0) return true;
	const text = [
		d.name,
		d.organisation,
		d.site,
		d.serial,
		d.model,
		d.os_name,
		...d.addresses,
		...d.people,
		...(d.tags ?? []),
		...(d.groups ?? []),
	]
		.concat(d.favourite ? "favourite" : [])
		.join("\n")
		.toLowerCase();
	return words.every((w) => text.includes(w));
}

export type Sort = { id: string; back: boolean };

/** The devices that match, sorted; those online stand first whatever the sort. */
export function arrange(devices: Iterable<Device>, typed: string, sort: Sort) {
	const column = columns.find((c) => c.id === sort.id) ?? columns[0];
	const found: { d: Device; key: string | number | undefined; name: string }[] = [];
	for (const d of devices) {
		if (matches(d, typed)) found.push({ d, key: column?.key(d), name: d.name });
	}
	found.sort((a, b) => {
		if (a.d.online !== b.d.online) return a.d.online ? -1 : 1;
		return inOrder(a.key, b.key, sort.back) || compare(a.name, b.name);
	});
	return found.map((f) => f.d);
}
