import type { Device } from "../api/client";
import { compare, inOrder } from "../parts/columns";
import { type Choice, matches } from "./choice";
import { systemName } from "./facets";

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

const harm = { failing: 0, degraded: 1, healthy: 2, silent: 3 } as const;
const whole = (n: number | undefined) => (n === undefined ? "" : `${n.toFixed(0)} %`);

const when = new Intl.DateTimeFormat("en-GB", { dateStyle: "short", timeStyle: "short" });

/** Who is signed in, or was last. */
export function personText(d: Device) {
	return d.people.length > 0 ? d.people.join(", ") : d.last_people.join(", ");
}

export const columns: Column[] = [
	{ id: "name", head: "Name", width: "minmax(9rem,1.4fr)", text: (d) => d.name, key: (d) => d.name.toLowerCase() },
	{ id: "alias", head: "Called", width: "minmax(8rem,1fr)", text: (d) => d.alias ?? "", key: (d) => d.alias },
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
		text: personText,
		key: (d) => d.last_people.join(", "),
	},
	{ id: "os", head: "System", width: "6rem", text: (d) => systemName(d.os), key: (d) => d.os },
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
	{ id: "note", head: "Note", width: "minmax(10rem,1.4fr)", text: (d) => d.note ?? "", key: (d) => d.note },
	{ id: "model", head: "Model", width: "minmax(8rem,1fr)", text: (d) => d.model, key: (d) => d.model },
	{ id: "serial", head: "Serial", width: "8rem", text: (d) => d.serial, key: (d) => d.serial },
	{
		id: "tags",
		head: "Tags",
		width: "minmax(7rem,1fr)",
		text: (d) => (d.tags ?? []).join(", "),
		key: (d) => (d.tags ?? []).join(),
	},
	{
		id: "groups",
		head: "Groups",
		width: "minmax(8rem,1fr)",
		text: (d) => (d.groups ?? []).join(", "),
		key: (d) => (d.groups ?? []).join(),
	},
	{
		id: "seen",
		head: "Person seen",
		width: "8rem",
		text: (d) => (d.last_people_at ? when.format(new Date(d.last_people_at)) : ""),
		key: (d) => d.last_people_at && Date.parse(d.last_people_at),
		right: true,
	},
	{
		id: "heard",
		head: "Last heard",
		width: "8rem",
		text: (d) => (d.last_heard ? when.format(new Date(d.last_heard)) : ""),
		key: (d) => d.last_heard && Date.parse(d.last_heard),
		right: true,
	},
	{ id: "agent", head: "Agent", width: "5rem", text: (d) => d.agent_version, key: (d) => d.agent_version },
];

export const usualColumns = ["name", "condition", "site", "people", "os", "cpu", "memory", "disk"];

export type Sort = { id: string; back: boolean };

/** Devices, sorted; those online stand first whatever the sort. With text, those alone that hold its words. */
export function arrange(devices: Iterable<Device>, text: string, sort: Sort) {
	const typed: Choice = { terms: text.trim() ? [{ facet: "text", value: text }] : [] };
	const column = columns.find((c) => c.id === sort.id) ?? columns[0];
	const found: { d: Device; key: string | number | undefined; name: string }[] = [];
	for (const d of devices) {
		if (matches(typed, d)) found.push({ d, key: column?.key(d), name: d.name });
	}
	found.sort((a, b) => {
		if (a.d.online !== b.d.online) return a.d.online ? -1 : 1;
		return inOrder(a.key, b.key, sort.back) || compare(a.name, b.name);
	});
	return found.map((f) => f.d);
}
