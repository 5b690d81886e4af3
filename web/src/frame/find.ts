import type { Device } from "../api/client";
import { searched } from "../fleet/choice";
import { compare } from "../parts/columns";
import type { Group } from "./pages";

// The search-or-do box: what fits what somebody types, the best first. No view stands here.

/** Something that is found: a place to go to, or something that is done. */
export type Found = {
	key: string; // the same next time, so that what one uses comes first
	kind: "device" | "action" | "page" | "thing";
	name: string;
	about?: string;
	device?: Device;
	go: string | (() => void);
};

/** What can be done with one device: a word, what it is called, and where that is. */
type Verb = { words: string[]; name: string; needs: string; of?: string; silent?: boolean; to: (d: Device) => string };

const pane = (name: string) => (d: Device) => `/devices/${d.id}?pane=${name}`;
const many = (kind: string) => (d: Device) => `/many?kind=${kind}&device=${d.id}`;

const verbs: Verb[] = [
	{ words: ["shell", "terminal"], name: "Shell on", needs: "shell.act", of: "shell", to: pane("shell") },
	{ words: ["screen", "view"], name: "Screen of", needs: "screen.see", of: "screen", to: pane("screen") },
	{ words: ["files", "file"], name: "Files of", needs: "files.see", of: "files", to: pane("files") },
	{
		words: ["processes", "tasks"],
		name: "Processes of",
		needs: "processes.see",
		of: "processes",
		to: pane("processes"),
	},
	{ words: ["services"], name: "Services of", needs: "services.see", of: "services", to: pane("services") },
	{ words: ["logs", "events"], name: "Event logs of", needs: "events.see", of: "events", to: pane("events") },
	{ words: ["network"], name: "Network of", needs: "network.see", of: "network", to: pane("network") },
	{ words: ["run", "command"], name: "Run a command on", needs: "command.act", to: pane("command") },
	{ words: ["message", "tell"], name: "Message to", needs: "people.act", of: "people", to: many("message") },
	{ words: ["restart", "reboot"], name: "Restart", needs: "power.act", of: "power", to: many("restart") },
	{ words: ["shutdown", "off"], name: "Shut down", needs: "power.act", of: "power", to: many("off") },
	{ words: ["wake"], name: "Wake", needs: "power.act", silent: true, to: (d) => `/devices/${d.id}` }, // which offers it
];

/** Things with names that the service keeps, where they were read. */
export type Thing = { kind: string; name: string; to: string; run?: string /* where it is run */ };

/** What is known when somebody types. */
export type Known = {
	devices: Iterable<Device>;
	groups: Group[]; // the pages that they may see
	may: (permission: string) => boolean;
	things: Thing[];
	actions: { words: string; name: string; go: string | (() => void) }[];
	used: Record<string, number>; // how often by key
};

/** Whether two words differ by one letter more, less, other or by two that changed places. */
export function nearly(a: string, b: string) {
	if (Math.abs(a.length - b.length) > 1) return false;
	let i = 0;
	while (i < a.length && a[i] === b[i]) i++;
	if (a.length === b.length)
		return (
			a.slice(i + 1) === b.slice(i + 1) || (a[i] === b[i + 1] && a[i + 1] === b[i] && a.slice(i + 2) === b.slice(i + 2))
		);
	const [long, short] = a.length > b.length ? [a, b] : [b, a];
	return long.slice(i + 1) === short.slice(i);
}

const splits = /[\s.,:_/()@-]+/;

/** How well a text fits typed words: 0 best, -1 not at all. A word of four letters or more may have a slip. */
export function fit(typed: string, text: string) {
	const low = text.toLowerCase();
	if (low === typed) return 0;
	if (low.startsWith(typed)) return 1;
	const words = typed.split(/\s+/).filter(Boolean);
	if (words.length === 0) return 1;
	const own = low.split(splits);
	let worst = 2;
	for (const w of words) {
		if (own.some((o) => o.startsWith(w))) continue;
		if (low.includes(w)) worst = Math.max(worst, 3);
		else if (w.length >= 4 && own.some((o) => nearly(w, o) || nearly(w, o.slice(0, w.length))))
			worst = Math.max(worst, 5);
		else return -1;
	}
	return worst;
}

const texts = new WeakMap<Device, string>();

function textOf(d: Device) {
	const kept = texts.get(d);
	if (kept !== undefined) return kept;
	const text = searched(d);
	texts.set(d, text);
	return text;
}

type Ranked = { found: Found; rank: number };

function findDevices(known: Known, typed: string, most: number): { d: Device; rank: number }[] {
	const words = typed.split(/\s+/).filter(Boolean);
	const out: { d: Device; rank: number }[] = [];
	let slips = 0;
	for (const d of known.devices) {
		const byName = typed ? fit(typed, d.name) : 2;
		if (byName >= 0 && byName < 5) out.push({ d, rank: byName });
		else if (words.every((w) => textOf(d).includes(w))) out.push({ d, rank: 4 });
		else if (byName === 5 && slips < most) {
			slips++;
			out.push({ d, rank: 5 });
		}
	}
	return out
		.sort(
			(a, b) =>
				a.rank - b.rank ||
				(known.used[b.d.id] ?? 0) - (known.used[a.d.id] ?? 0) ||
				Number(b.d.online) - Number(a.d.online) ||
				compare(a.d.name, b.d.name),
		)
		.slice(0, most);
}

/** What fits, the best first, at most so many. */
export function find(known: Known, text: string, most: number): Found[] {
	const typed = text.trim().toLowerCase();
	const ranked: Ranked[] = [];
	const add = (rank: number, found: Found) => {
		if (rank >= 0) ranked.push({ rank, found });
	};
	// A verb and a device: "restart sal-rec".
	const [first = "", ...others] = typed.split(/\s+/);
	const rest = others.join(" ");
	if (first.length >= 3) {
		for (const v of verbs) {
			if (!known.may(v.needs) || !v.words.some((w) => w.startsWith(first) || (first.length >= 4 && nearly(first, w))))
				continue;
			const fitting = v.silent ? [...known.devices].filter((d) => !d.online) : known.devices;
			for (const { d, rank } of findDevices({ ...known, devices: fitting }, rest, rest ? 4 : 3))
				if (!v.of || (d.online && d.capabilities.includes(v.of)))
					add(rank, {
						key: `${v.name} ${d.id}`,
						kind: "action",
						name: `${v.name} ${d.name}`,
						about: d.site,
						go: v.to(d),
					});
		}
		const on = / on (.+)$/.exec(typed);
		if (first === "run")
			for (const t of known.things) {
				const rank = t.run ? fit(typed.slice(4).replace(/ on .*$/, ""), t.name) : -1;
				if (rank < 0 || !t.run) continue;
				const d = on?.[1] && findDevices(known, on[1], 1)[0]?.d;
				add(rank, {
					key: `run ${t.to}`,
					kind: "action",
					name: d ? `Run ${t.name} on ${d.name}` : `Run ${t.name}`,
					about: t.kind,
					go: d ? `${t.run}&device=${d.id}` : t.run,
				});
			}
	}
	if (typed)
		for (const { d, rank } of findDevices(known, typed, most))
			add(rank, { key: d.id, kind: "device", name: d.name, device: d, go: `/devices/${d.id}` });
	for (const a of known.actions)
		add(typed ? fit(typed, `${a.words} ${a.name}`) : 6, { key: a.name, kind: "action", name: a.name, go: a.go });
	for (const g of known.groups)
		for (const p of g.pages) {
			const rank = typed ? fit(typed, p.name) : 2;
			const wide = rank < 0 ? fit(typed, `${g.name} ${p.name} ${p.about}`) : rank;
			add(rank < 0 && wide >= 0 ? wide + 2 : rank, {
				key: p.to,
				kind: "page",
				name: p.name,
				about: p.about,
				go: p.to,
			});
		}
	if (typed)
		for (const t of known.things) {
			const rank = fit(typed, t.name);
			add(rank < 0 ? -1 : rank + 1, { key: t.to, kind: "thing", name: t.name, about: t.kind, go: t.to });
		}
	const seen = new Set<string>();
	return ranked
		.map((r, at) => ({ ...r, at, rank: r.rank - Math.min(1.5, Math.log2(1 + (known.used[r.found.key] ?? 0)) / 2) }))
		.sort((a, b) => a.rank - b.rank || a.at - b.at)
		.filter(({ found }) => !seen.has(found.key) && seen.add(found.key))
		.slice(0, most)
		.map((r) => r.found);
}
