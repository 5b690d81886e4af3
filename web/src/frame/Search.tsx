import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from "@headlessui/react";
import { ArrowRightIcon, MagnifyingGlassIcon } from "@heroicons/react/20/solid";
import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import type { Device } from "../api/client";
import { useDevices } from "../fleet/devices";
import { matches } from "../fleet/rows";
import { Condition } from "../parts/Condition";
import { turnTheme } from "../parts/theme";

type Action = { name: string; go: string | (() => void) };

const actions: Action[] = [
	{ name: "Now: what needs a person", go: "/" },
	{ name: "All devices", go: "/devices" },
	{ name: "Alerts, current and past", go: "/alerts" },
	{ name: "Groups of devices", go: "/groups" },
	{ name: "Policies: what devices are judged by", go: "/policies" },
	{ name: "On many: do one thing on many devices", go: "/many" },
	{ name: "Consent: who is told or asked", go: "/consent" },
	{ name: "Sweep: ask many devices something", go: "/sweep" },
	{ name: "Jobs: what is done everywhere", go: "/jobs" },
	{ name: "Scripts: the library", go: "/scripts" },
	{ name: "Packages: install and remove", go: "/packages" },
	{ name: "Updates: what is missing", go: "/updates" },
	{ name: "Reports: how current the devices are", go: "/reports" },
	{ name: "Exposure: which devices are furthest behind", go: "/exposure" },
	{ name: "Advisories: known weaknesses of the software", go: "/advisories" },
	{ name: "Rollouts: updates ring by ring", go: "/rollouts" },
	{ name: "Wall: many screens", go: "/wall" },
	{ name: "Software of the fleet", go: "/software" },
	{ name: "Changes on all devices", go: "/changes" },
	{ name: "Notices: who is told of what", go: "/notices" },
	{ name: "Add devices", go: "/enrol" },
	{ name: "Recordings of shells", go: "/recordings" },
	{ name: "Audit log", go: "/audit" },
	{ name: "Your account", go: "/account" },
	{ name: "API tokens", go: "/account" },
	{ name: "People and roles", go: "/people" },
	{ name: "Turn to the other theme", go: turnTheme },
];

type Found = { key: string; device?: Device; action?: Action };

const mostShown = 12;

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
	const found = useMemo(() => search(devices?.values() ?? [], typed), [devices, typed]);
	const choose = (f: Found | null) => {
		if (!f) return;
		setTyped("");
		input.current?.blur();
		if (f.device) navigate(`/devices/${f.device.id}`);
		else if (typeof f.action?.go === "string") navigate(f.action.go);
		else f.action?.go();
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
					onChange={(e) => setTyped(e.target.value)}
					displayValue={() => typed}
					autoComplete="off"
				/>
				<kbd className="pointer-events-none absolute top-1.5 right-2 rounded border border-line px-1.5 font-sans text-faint text-xs leading-5">
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
									{[f.device.people[0], f.device.site].filter(Boolean).join(", ")}
								</span>
							</>
						) : (
							<>
								<ArrowRightIcon className="size-3.5 text-heather" aria-hidden="true" />
								{f.action?.name}
							</>
						)}
					</ComboboxOption>
				))}
				{found.length === 0 && <p className="px-3 py-1.5 text-faint">Nothing matches “{typed}”.</p>}
			</ComboboxOptions>
		</Combobox>
	);
}

/** The best of what matches: names that begin with what was typed, other devices, then actions. */
function search(devices: Iterable<Device>, typed: string): Found[] {
	const low = typed.trim().toLowerCase();
	const begin: Device[] = [];
	const rest: Device[] = [];
	if (low) {
		for (const d of devices) {
			if (d.name.toLowerCase().startsWith(low)) begin.push(d);
			else if (rest.length < mostShown && matches(d, low)) rest.push(d);
		}
	}
	begin.sort((a, b) => a.name.localeCompare(b.name));
	return [
		...[...begin, ...rest].slice(0, mostShown).map((device) => ({ key: device.id, device })),
		...actions.filter((d) => d.name.toLowerCase().includes(low)).map((action) => ({ key: action.name, action })),
	];
}
