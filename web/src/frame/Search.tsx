import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from "@headlessui/react";
import { ArrowRightIcon, BoltIcon, DocumentTextIcon, MagnifyingGlassIcon } from "@heroicons/react/20/solid";
import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { meQuery } from "../api/me";
import { read } from "../api/queries";
import { useDevices } from "../fleet/devices";
import { personText } from "../fleet/rows";
import { Condition } from "../parts/Condition";
import { useKept } from "../parts/kept";
import { turnTheme, useDark } from "../parts/theme";
import { type Found, find, type Known, type Thing } from "./find";
import { permitted } from "./pages";

const mostShown = 12;
const mostUsed = 200; // keys that are remembered

const doings = [
	{ name: "Run a command on devices", kind: "command", needs: "command.act" },
	{ name: "Restart devices", kind: "restart", needs: "power.act" },
	{ name: "Message to people at devices", kind: "message", needs: "people.act" },
	{ name: "Send a file to devices", kind: "file", needs: "files.act" },
];

/** Names of what the service keeps, read once the box is used. */
function useThings(enabled: boolean, may: (p: string) => boolean): Thing[] {
	const fresh = { staleTime: 60_000 };
	const see = enabled && may("scripts.see");
	const scripts = useQuery({ ...read("/scripts", { query: { limit: 200 } }), enabled: see, ...fresh }).data?.items;
	const packages = useQuery({ ...read("/packages", { query: { limit: 200 } }), enabled: see, ...fresh }).data?.items;
	const policies = useQuery({ ...read("/policies", { query: { limit: 200 } }), enabled, ...fresh }).data?.items;
	const groups = useQuery({ ...read("/groups", { query: { limit: 500 } }), enabled, ...fresh }).data?.items;
	const [pages, setPages] = useState<Thing[]>([]);
	useEffect(() => {
		if (!enabled) return;
		import("../handbook/pages").then((m) =>
			setPages(m.handbook.map((p) => ({ kind: "handbook", name: p.title, to: `/handbook/${p.id}` }))),
		);
	}, [enabled]);
	return useMemo(
		() => [
			...pages,
			...(scripts ?? []).map((s) => ({
				kind: "script",
				name: s.content.name,
				to: `/scripts?script=${s.id}`,
				run: `/scripts?script=${s.id}&run`,
			})),
			...(packages ?? []).map((p) => ({ kind: "package", name: p.content.name, to: `/packages?package=${p.id}` })),
			...(policies ?? []).map((p) => ({ kind: "policy", name: p.name, to: "/policies" })),
			...(groups ?? []).map((g) => ({
				kind: "group",
				name: g.name,
				to: `/devices?group=${encodeURIComponent(g.name)}`,
			})),
		],
		[pages, scripts, packages, policies, groups],
	);
}

/** The search-or-do box: Ctrl+K from anywhere. */
export function Search() {
	const input = useRef<HTMLInputElement>(null);
	const [typed, setTyped] = useState("");
	const devices = useDevices().data;
	const navigate = useNavigate();
	useEffect(() => {
		const onKey = (e: KeyboardEvent) => {
			if (e.key.toLowerCase() === "k" && (e.ctrlKey || e.metaKey)) {
				e.preventDefault();
				input.current?.focus();
				input.current?.select();
			}
		};
		// Before a terminal that has the focus sees the keys.
		window.addEventListener("keydown", onKey, { capture: true });
		return () => window.removeEventListener("keydown", onKey, { capture: true });
	}, []);
	const me = useQuery(meQuery).data;
	const [used, setUsed] = useKept<Record<string, number>>("moorwatch used", {});
	const [open, setOpen] = useState(false);
	const dark = useDark();
	const may = (p: string) => me?.permissions.includes(p) ?? false;
	const things = useThings(open, may);
	const late = useDeferredValue(typed);
	const known = useMemo(
		(): Known => ({
			devices: devices?.values() ?? [],
			groups: permitted(me),
			may: (p) => me?.permissions.includes(p) ?? false,
			things,
			used,
			actions: [
				...(me?.everywhere.includes("policy.manage")
					? [{ words: "add", name: "New policy", go: "/policies?new" }]
					: []),
				...(me?.everywhere.includes("group.manage") ? [{ words: "add", name: "New group", go: "/groups?new" }] : []),
				...(me?.everywhere.includes("scripts.administer")
					? [{ words: "add", name: "New script", go: "/scripts?new" }]
					: []),
				...(me?.permissions.includes("updates.act")
					? [{ words: "add", name: "New rollout", go: "/rollouts?new" }]
					: []),
				...(me?.everywhere.includes("people.manage")
					? [{ words: "add invite colleague", name: "New person", go: "/people?new" }]
					: []),
				...doings
					.filter((d) => me?.permissions.includes(d.needs))
					.map((d) => ({ words: "many", name: d.name, go: `/many?kind=${d.kind}` })),
				...(me?.permissions.includes("fleet.enrol")
					? [{ words: "new enrol install", name: "Add a device", go: "/enrol" }]
					: []),
				{ words: "dark light theme", name: dark ? "Light theme" : "Dark theme", go: turnTheme },
				{ words: "help how manual", name: "Handbook", go: "/handbook" },
				{ words: "password passkey tokens settings", name: "Your account", go: "/account" },
			],
		}),
		[devices, me, things, used, dark],
	);
	const found = useMemo(() => find(known, late, mostShown), [known, late]);
	const choose = (chosen: Found | null) => {
		if (!chosen) return;
		// Who types quickly presses Enter before the list has followed: what is meant is what was typed.
		const now = typed === late ? found : find(known, typed, mostShown);
		const f = now.find((o) => o.key === chosen.key) ?? now[0];
		if (!f) return;
		setTyped("");
		input.current?.blur();
		const next = Object.entries({ ...used, [f.key]: (used[f.key] ?? 0) + 1 });
		setUsed(Object.fromEntries(next.slice(-mostUsed)));
		if (typeof f.go === "string") navigate(f.go);
		else f.go();
	};
	return (
		<Combobox immediate value={null as Found | null} by="key" onChange={choose} onClose={() => setTyped("")}>
			<div className="relative w-full max-w-md">
				<MagnifyingGlassIcon
					className="pointer-events-none absolute top-2 left-2.5 size-4 text-faint"
					aria-hidden="true"
				/>
				<ComboboxInput
					ref={input}
					aria-label="Find a device or do something"
					placeholder="Find a device, or do something"
					className="w-full rounded-md border border-transparent bg-panel py-1 pr-16 pl-8 placeholder:text-faint focus:border-edge focus:bg-raised"
					onFocus={() => setOpen(true)}
					onChange={(e) => setTyped(e.target.value)}
					displayValue={() => typed}
					autoComplete="off"
				/>
				<kbd className="pointer-events-none absolute max-sm:hidden top-1.5 right-2 rounded border border-line px-1.5 font-sans text-faint text-xs leading-5">
					Ctrl K
				</kbd>
			</div>
			<ComboboxOptions
				anchor="bottom start"
				className="z-40 mt-1 w-(--input-width) min-w-96 rounded-md border border-line bg-raised py-1 shadow-xl empty:invisible"
			>
				{found.map((f) => (
					<ComboboxOption
						key={f.key}
						value={f}
						className="flex cursor-pointer items-center gap-2 px-3 py-1 data-focus:bg-heather-tint"
					>
						{f.device ? (
							<>
								<Condition name={f.device.condition} />
								<span className="font-medium">{f.device.name}</span>
								<span className="ml-auto truncate text-faint text-sm">
									{[personText(f.device), f.device.site].filter(Boolean).join(", ")}
								</span>
							</>
						) : (
							<>
								<Sign kind={f.kind} />
								<span className="whitespace-nowrap">{f.name}</span>
								<span className="ml-auto truncate text-faint text-sm">{f.about}</span>
							</>
						)}
					</ComboboxOption>
				))}
				{found.length === 0 && <p className="px-3 py-1.5 text-faint">Nothing matches “{typed}”.</p>}
			</ComboboxOptions>
		</Combobox>
	);
}

function Sign({ kind }: { kind: Found["kind"] }) {
	const Glyph = { action: BoltIcon, page: ArrowRightIcon, thing: DocumentTextIcon, device: ArrowRightIcon }[kind];
	return <Glyph className="size-4 shrink-0 text-heather" aria-hidden="true" />;
}
