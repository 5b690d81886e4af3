import type { Device } from "../api/client";
import { compare } from "../parts/columns";
import { type Choice, type Facet, same, type Term } from "./choice";

// What can be picked, and what of it fits what somebody types. No view stands here.

export const facetName: Record<Facet, string> = {
	organisation: "organisation",
	site: "site",
	condition: "condition",
	os: "system",
	online: "",
	group: "group",
	tag: "tag",
	software: "software",
	person: "person",
	device: "device",
	text: "contains",
};

const systems: Record<string, string> = { windows: "Windows", macos: "macOS", linux: "Linux" };

/** The name of a system. */
export const systemName = (os: string) => systems[os] ?? os;

/** The value of a term as people say it. */
export function valueText(t: Term, deviceName?: (id: string) => string | undefined) {
	switch (t.facet) {
		case "os":
			return systemName(t.value);
		case "online":
			return t.value === "no" ? "offline" : "online";
		case "site":
			return t.of ? `${t.value}, ${t.of}` : t.value;
		case "software":
			return t.value.replace(/(.)@([^@]*)$/, "$1 $2");
		case "device":
			return deviceName?.(t.value) ?? t.value;
		default:
			return t.value;
	}
}

/** A value that can be picked, with how many devices have it. */
export type Value = { term: Term; text: string; count: number };

/** All values that devices have, but for software, of which the service is asked. */
export function valuesOf(devices: Iterable<Device>): Value[] {
	const found = new Map<string, Value>();
	const sites = new Map<string, Set<string>>();
	const note = (facet: Facet, value: string, of?: string) => {
		if (!value) return;
		const key = `${facet}\n${value}\n${of ?? ""}`;
		const known = found.get(key);
		if (known) known.count++;
		else found.set(key, { term: { facet, value, of }, text: "", count: 1 });
	};
	for (const d of devices) {
		note("organisation", d.organisation);
		note("site", d.site, d.organisation);
		sites.set(d.site, (sites.get(d.site) ?? new Set()).add(d.organisation));
		note("condition", d.condition);
		note("os", d.os);
		note("online", d.online ? "yes" : "no");
		for (const g of d.groups ?? []) note("group", g);
		for (const t of d.tags ?? []) note("tag", t);
		for (const p of d.last_people) note("person", p);
		note("device", d.name);
	}
	const all = [...found.values()];
	for (const v of all) {
		// Where a site is the only one of its name, the organisation need not be said.
		if (v.term.facet === "site" && sites.get(v.term.value)?.size === 1) v.term = { facet: "site", value: v.term.value };
		v.text = valueText(v.term);
	}
	return all;
}

const order: Facet[] = [
	"condition",
	"online",
	"site",
	"organisation",
	"group",
	"tag",
	"os",
	"person",
	"device",
	"software",
	"text",
];

/** Before anything is typed: what most lists are narrowed by. */
const offeredAtOnce: Facet[] = ["condition", "online", "os", "group"];

/**
 * The values that fit what is typed, best first: those that begin with it, then those that hold it; of the
 * words of a facet's name too, so that "site hay" finds sites. At most so many.
 */
export function suggest(values: Value[], typed: string, choice: Choice, most: number): Value[] {
	const low = typed.trim().toLowerCase();
	const rank = (v: Value) => {
		if (!low) return offeredAtOnce.includes(v.term.facet) ? 0 : -1;
		const text = v.text.toLowerCase();
		if (text.startsWith(low)) return 0;
		if (text.split(/[\s.,_-]+/).some((w) => w.startsWith(low))) return 1;
		if (text.includes(low)) return 2;
		const name = facetName[v.term.facet];
		if (name && low.startsWith(name) && text.includes(low.slice(name.length).trim())) return 3;
		return -1;
	};
	return values
		.filter((v) => !choice.terms.some((t) => same(t, v.term)))
		.map((v) => ({ v, rank: rank(v) }))
		.filter((r) => r.rank >= 0)
		.sort(
			(a, b) =>
				a.rank - b.rank || order.indexOf(a.v.term.facet) - order.indexOf(b.v.term.facet) || compare(a.v.text, b.v.text),
		)
		.slice(0, most)
		.map((r) => r.v);
}
