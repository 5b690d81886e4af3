import { ArrowPathIcon } from "@heroicons/react/20/solid";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { answer, api, type Device, type Schemas } from "../api/client";
import { useMay } from "../api/me";
import { read, readAnew } from "../api/queries";
import { TextField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Ago } from "../parts/time";

/** What a device consists of, as last known, with its age. */
export function Inventory({ device: d }: { device: Device }) {
	const queries = useQueryClient();
	const [typed, setTyped] = useState("");
	const search = useDeferredValue(typed.trim().toLowerCase());
	const may = useMay("command.act");
	const inventory = read("/devices/{id}/inventory", { path: { id: d.id } });
	const whole = useQuery(inventory);
	const take = useMutation({
		mutationFn: () => answer(api.POST("/devices/{id}/inventory", { params: { path: { id: d.id } } })),
		onSuccess: (v) => {
			queries.setQueryData(inventory.queryKey, v);
			readAnew(queries, "/changes");
		},
	});
	if (whole.isPending) return <Waiting what="the inventory" />;
	if (whole.isError) return <ProblemAlert error={whole.error} retry={() => whole.refetch()} />;
	const { items, sections, taken_at } = whole.data;
	const found = search
		? items.filter((i) => [i.name, i.key, ...Object.values(i.fields ?? {})].join("\n").toLowerCase().includes(search))
		: items;
	return (
		<div>
			<div className="mb-2 flex items-center gap-3">
				<TextField
					label="Search the inventory"
					hidden
					className="max-w-xs"
					type="search"
					placeholder="Search the inventory"
					value={typed}
					onChange={setTyped}
				/>
				<span className="text-faint">
					{taken_at ? (
						<>
							{items.length} items, as of <Ago at={taken_at} />
						</>
					) : (
						"not taken yet"
					)}
				</span>
				<span className="ml-auto flex items-center gap-1 text-sm">
					<a className="button-quiet" href={`/api/v1/devices/${d.id}/inventory?format=csv`}>
						CSV
					</a>
					<a className="button-quiet" href={`/api/v1/devices/${d.id}/inventory?format=cyclonedx`}>
						CycloneDX
					</a>
					{may && d.online && (
						<button type="button" className="button-quiet" disabled={take.isPending} onClick={() => take.mutate()}>
							<ArrowPathIcon className="size-4" aria-hidden="true" />
							{take.isPending ? "Taking it…" : "Take it now"}
						</button>
					)}
				</span>
			</div>
			{take.isError && <ProblemAlert error={take.error} />}
			{found.length === 0 && (
				<Empty title={items.length ? "Nothing matches." : "There is no inventory yet."}>
					{items.length ? "Try another word." : "The agent sends it soon after it first connects."}
				</Empty>
			)}
			{sections.map((s) => (
				<Section key={s.name} title={s.title} items={found.filter((i) => i.section === s.name)} open={search !== ""} />
			))}
		</div>
	);
}

function Section({ title, items, open }: { title: string; items: Schemas["InventoryItem"][]; open: boolean }) {
	if (items.length === 0) return null;
	return (
		<details open={open || items.length <= 12} className="border-line border-b py-1">
			<summary className="cursor-pointer font-semibold">
				{title} <span className="font-normal text-faint">{items.length}</span>
			</summary>
			<table className="mb-2 w-full border-collapse">
				<tbody>
					{items.map((i) => (
						<tr key={i.key} className="align-top">
							<td className="w-1/3 py-0.5 pr-4">{i.name}</td>
							<td className="w-40 py-0.5 pr-4 tabular-nums">{i.fields?.version}</td>
							<td className="py-0.5 text-faint">
								{Object.entries(i.fields ?? {})
									.filter(([name]) => name !== "version" && name !== "purl")
									.map(([name, value]) => `${name.replaceAll("_", " ")} ${value}`)
									.join(", ")}
							</td>
						</tr>
					))}
				</tbody>
			</table>
		</details>
	);
}
