import { Popover, PopoverButton, PopoverPanel } from "@headlessui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Link } from "react-router";
import { answer, api, type Device } from "../api/client";
import { meQuery } from "../api/me";
import { readAnew } from "../api/queries";
import { toCsv } from "../parts/columns";
import { SelectField, TextField } from "../parts/fields";
import { ProblemAlert } from "../parts/ProblemAlert";
import { save } from "../parts/save";
import type { Choice } from "./choice";
import { wayTo } from "./chosen";
import { type Place, SiteOptions } from "./organisations";
import { type Column, columns } from "./rows";

type Way = { name: string; path: string; needs: string };

// Those that nobody at the device notices stand first.
const ways: Way[] = [
	{ name: "Command", path: "/many?kind=command", needs: "command.act" },
	{ name: "Script", path: "/scripts", needs: "scripts.act" },
	{ name: "Package", path: "/packages", needs: "scripts.act" },
	{ name: "File", path: "/many?kind=file", needs: "files.act" },
	{ name: "Ask", path: "/sweep", needs: "device.sweep" },
	{ name: "Updates", path: "/rollouts?new", needs: "updates.act" },
	{ name: "Wall", path: "/wall", needs: "screen.see" },
	{ name: "Message", path: "/many?kind=message", needs: "people.act" },
	{ name: "Power", path: "/many?kind=restart", needs: "power.act" },
];

const button = "rounded-md px-2 py-1 text-heather hover:bg-heather-tint whitespace-nowrap";

/** What can be done with some devices: as links to where it is done, with the devices already picked. */
export function Actions({ devices, choice, shown }: { devices: Device[]; choice: Choice; shown: Column[] }) {
	const me = useQuery(meQuery).data;
	const may = (p: string) => me?.permissions.includes(p) ?? false;
	return (
		<>
			{ways
				.filter((w) => may(w.needs))
				.map((w) => (
					<Link key={w.name} {...wayTo(w.path, choice)} className={button}>
						{w.name}
					</Link>
				))}
			{may("group.manage") && <TagAll devices={devices} />}
			{may("fleet.manage") && <MoveAll devices={devices} />}
			<Export devices={devices} shown={shown} />
		</>
	);
}

/** A button that asks for something, and then does it at each device, one after another. */
function Each({
	name,
	verb,
	devices,
	ready,
	done: word,
	act,
	children,
}: {
	name: string; // of the button
	verb: string;
	devices: Device[];
	ready: boolean; // what is asked for was given
	done: string; // said of so many devices afterwards
	act: (d: Device) => Promise<unknown>;
	children: ReactNode; // what is asked for
}) {
	const queries = useQueryClient();
	const [done, setDone] = useState(0);
	const each = useMutation({
		mutationFn: async () => {
			setDone(0);
			for (const d of devices) {
				await act(d);
				readAnew(queries, "/devices/{id}", { id: d.id });
				setDone((n) => n + 1);
			}
		},
	});
	return (
		<Popover>
			<PopoverButton className={button} onClick={() => each.reset()}>
				{name}
			</PopoverButton>
			<PopoverPanel
				anchor={{ to: "top", gap: 6 }}
				className="z-40 w-80 max-w-[calc(100vw-1rem)] rounded-md border border-line bg-raised p-3 shadow-xl"
			>
				<form
					className="flex items-end gap-2"
					onSubmit={(e) => {
						e.preventDefault();
						each.mutate();
					}}
				>
					<div className="min-w-0 flex-1">{children}</div>
					<button type="submit" className="button" disabled={each.isPending || !ready}>
						{verb}
					</button>
				</form>
				<p role="status" className="mt-1 min-h-5 text-faint text-sm">
					{each.isPending && `${done} of ${devices.length}…`}
					{each.isSuccess && `${done} ${word}.`}
					{each.isError && done > 0 && `${done} ${word} before this:`}
				</p>
				{each.isError && <ProblemAlert error={each.error} />}
			</PopoverPanel>
		</Popover>
	);
}

/** Gives devices a tag. */
function TagAll({ devices }: { devices: Device[] }) {
	const [tag, setTag] = useState("");
	return (
		<Each
			name="Tag"
			verb="Add"
			devices={devices}
			ready={!!tag.trim()}
			done="have it"
			act={(d) => {
				const tags = [...new Set([...(d.tags ?? []), tag.trim()])];
				return answer(api.PUT("/devices/{id}/tags", { params: { path: { id: d.id } }, body: { tags } }));
			}}
		>
			<TextField label={`Tag for ${devices.length}`} required maxLength={60} value={tag} onChange={setTag} />
		</Each>
	);
}

/** Moves devices to another site. */
function MoveAll({ devices }: { devices: Device[] }) {
	const [place, setPlace] = useState("");
	return (
		<Each
			name="Move"
			verb="Move"
			devices={devices}
			ready={place !== ""}
			done="are moved"
			act={(d) =>
				answer(api.PUT("/devices/{id}/site", { params: { path: { id: d.id } }, body: JSON.parse(place) as Place }))
			}
		>
			<SelectField label={`Site for ${devices.length}`} required value={place} onChange={setPlace}>
				<option value="">Which site?</option>
				<SiteOptions />
			</SelectField>
		</Each>
	);
}

/** Devices as a file, or on paper. */
function Export({ devices, shown }: { devices: Device[]; shown: Column[] }) {
	const asColumns = (some: Column[]) => some.map((c) => ({ head: c.head, value: c.text }));
	return (
		<Popover>
			<PopoverButton className={button}>Export</PopoverButton>
			<PopoverPanel
				anchor={{ to: "top", gap: 6 }}
				className="z-40 flex w-52 flex-col rounded-md border border-line bg-raised py-1 shadow-xl"
			>
				{(
					[
						["CSV, these columns", () => save("devices.csv", toCsv(devices, asColumns(shown)))],
						["CSV, all columns", () => save("devices.csv", toCsv(devices, asColumns(columns)))],
						["JSON, everything", () => save("devices.json", JSON.stringify(devices, null, "\t"))],
						["Print", () => window.print()],
					] as const
				).map(([name, act]) => (
					<button key={name} type="button" className="px-3 py-1 text-left hover:bg-heather-tint" onClick={act}>
						{name}
					</button>
				))}
			</PopoverPanel>
		</Popover>
	);
}
