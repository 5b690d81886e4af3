import type { Device } from "../api/client";

// Which devices somebody picked: chips of facets, as core/selector's Choice. No view stands here.

export const facets = [
	"organisation",
	"site",
	"condition",
	"os",
	"online",
	"group",
	"tag",
	"software",
	"person",
	"device",
	"text",
] as const;

export type Facet = (typeof facets)[number];

/** One value of a facet that devices are to have, or not to have. */
export type Term = { facet: Facet; value: string; of?: string /* the organisation of a site */; not?: boolean };

/** What is picked: chips and, beside them, an expression that somebody wrote. */
export type Choice = { terms: Term[]; where?: string };

export const everyDevice: Choice = { terms: [] };

export const same = (a: Term, b: Term) => a.facet === b.facet && a.value === b.value && (a.of ?? "") === (b.of ?? "");

/** The choice with a term more; with one that it has the other way round, that is turned. */
export function withTerm(c: Choice, t: Term): Choice {
	const at = c.terms.findIndex((o) => same(o, t));
	return { ...c, terms: at < 0 ? [...c.terms, t] : c.terms.with(at, t) };
}

export function withoutTerm(c: Choice, t: Term): Choice {
	return { ...c, terms: c.terms.filter((o) => !same(o, t)) };
}

/** Terms of one facet in place of those that it had. */
export function withFacet(c: Choice, facet: Facet, terms: Term[]): Choice {
	return { ...c, terms: [...c.terms.filter((t) => t.facet !== facet), ...terms] };
}

/** What an address says of a choice: site=Depot&tag=loan&not-group=Kiosks. */
export function toParams(c: Choice) {
	const out = new URLSearchParams();
	for (const t of c.terms)
		out.append((t.not ? "not-" : "") + t.facet, t.of && !t.of.includes("@") ? `${t.value}@${t.of}` : t.value);
	if (c.where) out.set("where", c.where);
	return out;
}

export function fromParams(params: URLSearchParams): Choice {
	const terms: Term[] = [];
	for (const [key, value] of params) {
		const not = key.startsWith("not-");
		const facet = facets.find((f) => f === (not ? key.slice(4) : key));
		if (!facet || !value) continue;
		const at = facet === "site" ? value.lastIndexOf("@") : -1;
		const t: Term = at > 0 ? { facet, value: value.slice(0, at), of: value.slice(at + 1) } : { facet, value };
		terms.push(not ? { ...t, not } : t);
	}
	return { terms, where: params.get("where") ?? undefined };
}

const quoted = JSON.stringify;
const isID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/;
const words = (text: string) => text.toLowerCase().split(/\s+/).filter(Boolean);

function termText(t: Term) {
	const value = quoted(t.value).replaceAll("\u2028", "\\u2028").replaceAll("\u2029", "\\u2029");
	switch (t.facet) {
		case "site":
			return t.of ? `organisation == ${quoted(t.of)} && site == ${value}` : `site == ${value}`;
		case "organisation":
		case "condition":
		case "os":
			return `${t.facet} == ${value}`;
		case "online":
			return t.value === "no" ? "!online" : "online";
		case "group":
			return `${value} in groups`;
		case "tag":
			return `${value} in tags`;
		case "person":
			return `${value} in last_people`;
		case "software": {
			const at = t.value.lastIndexOf("@");
			if (at <= 0) return `${value} in software`;
			const name = quoted(t.value.slice(0, at));
			return `${name} in software && software[${name}] == ${quoted(t.value.slice(at + 1))}`;
		}
		case "device":
			return isID.test(t.value) ? `id == ${value}` : `(name == ${value} || id == ${value})`;
		case "text":
			return words(t.value)
				.map((w) => `text.contains(${quoted(w)})`)
				.join(" && ");
	}
}

/** The choice as an expression, "" for every device. */
export function expressionOf(c: Choice) {
	const all: string[] = [];
	for (const facet of facets) {
		const some: string[] = [];
		for (const t of c.terms) {
			const one = t.facet === facet ? termText(t) : "";
			if (!one) continue;
			if (t.not) all.push(`!(${one})`);
			else if (facet === "text") all.push(one);
			else if (!some.includes(one)) some.push(one);
		}
		if (some.length === 1) all.push(...some);
		else if (some.length > 1) all.push(`(${some.join(" || ")})`);
	}
	if (c.where?.trim()) all.push(all.length > 0 ? `(${c.where.trim()})` : c.where.trim());
	return all.join(" && ");
}

/** Whether the rows of devices do not tell if the choice holds, so that the service has to be asked. */
export function needsService(c: Choice) {
	return !!c.where?.trim() || c.terms.some((t) => t.facet === "software");
}

/** All that is searched of a device, in lower case. */
export function searched(d: Device) {
	return [d.name, d.alias ?? "", d.organisation, d.site, d.os_name, d.model, d.serial, d.note ?? ""]
		.concat(d.addresses, d.last_people, d.tags ?? [], d.groups ?? [], d.favourite ? "favourite" : [])
		.join("\n")
		.toLowerCase();
}

function holds(t: Term, d: Device): boolean {
	switch (t.facet) {
		case "organisation":
			return d.organisation === t.value;
		case "site":
			return d.site === t.value && (!t.of || d.organisation === t.of);
		case "condition":
			return d.condition === t.value;
		case "os":
			return d.os === t.value;
		case "online":
			return d.online === (t.value !== "no");
		case "group":
			return d.groups?.includes(t.value) ?? false;
		case "tag":
			return d.tags?.includes(t.value) ?? false;
		case "person":
			return d.last_people.includes(t.value);
		case "device":
			return d.name === t.value || d.id === t.value;
		case "text": {
			const text = searched(d);
			return words(t.value).every((w) => text.includes(w));
		}
		case "software":
			return true; // the service is asked
	}
}

/** Whether the terms that a device's row can answer hold for it. */
export function matches(c: Choice, d: Device) {
	const open = new Map<Facet, boolean>();
	for (const t of c.terms) {
		if (t.facet === "software" || (t.facet === "text" && words(t.value).length === 0)) continue;
		const yes = holds(t, d);
		if (t.not || t.facet === "text") {
			if (yes === !!t.not) return false;
		} else open.set(t.facet, open.get(t.facet) || yes);
	}
	return [...open.values()].every(Boolean);
}
