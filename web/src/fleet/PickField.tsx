import { Popover, PopoverButton, PopoverPanel } from "@headlessui/react";
import { useState } from "react";
import { ProblemAlert } from "../parts/ProblemAlert";
import { type Choice, everyDevice, expressionOf } from "./choice";
import { Expression } from "./Expression";
import type { useGroups } from "./Groups";
import { Picker } from "./Picker";
import { useChosen } from "./useChosen";

/** Every device, on purpose: nothing picked is none yet. */
const all: Choice = { terms: [], where: "true" };

/** Whether nothing is picked yet. */
export const nothing = (c: Choice) => expressionOf(c) === "";

/** A choice as the API takes it. A group alone is named by itself, so that secrets may go to one of named devices. */
export function targetOf(c: Choice, groups: ReturnType<typeof useGroups>["data"]) {
	const only = c.terms.length === 1 && !c.where ? c.terms[0] : undefined;
	const group = only?.facet === "group" && !only.not && groups?.items.find((g) => g.name === only.value);
	return group ? { group: group.id } : { where: expressionOf(c) };
}

/** Which devices something is done on: a picker, how many that are now and which, and the expression of it. */
export function PickField({
	choice,
	onChange,
	label = "On which devices",
}: {
	choice: Choice;
	onChange: (c: Choice) => void;
	label?: string;
}) {
	const [written, setWritten] = useState(!!choice.where && choice.where !== "true");
	const found = useChosen(choice);
	const online = found.devices.filter((d) => d.online).length;
	const n = found.devices.length;
	const empty = nothing(choice);
	return (
		<div className="min-w-0">
			<span className="mb-1 block font-medium">{label}</span>
			<Picker choice={choice} onChange={onChange} label={label} />
			<div className="mt-1 flex min-h-6 flex-wrap items-center gap-x-3 text-sm">
				{empty ? (
					<span className="text-faint">
						None yet.{" "}
						<button type="button" className="link" onClick={() => onChange(all)}>
							All {found.total}
						</button>
					</span>
				) : (
					<Popover>
						<PopoverButton className="link tabular-nums" disabled={n === 0}>
							{n} {n === 1 ? "device" : "devices"}, {online} online
						</PopoverButton>
						<PopoverPanel
							anchor={{ to: "bottom start", gap: 4 }}
							className="z-40 max-h-72 w-80 overflow-auto rounded-md border border-line bg-raised p-2 shadow-lg"
						>
							<ul className="columns-2">
								{found.devices.slice(0, 500).map((d) => (
									<li key={d.id} className={`truncate ${d.online ? "" : "text-faint"}`} title={`${d.name}, ${d.site}`}>
										{d.name}
									</li>
								))}
							</ul>
							{n > 500 && <p className="text-faint">and {n - 500} more</p>}
						</PopoverPanel>
					</Popover>
				)}
				<button type="button" className="link" aria-expanded={written} onClick={() => setWritten(!written)}>
					{written ? "Without an expression" : "As an expression"}
				</button>
			</div>
			{found.error ? <ProblemAlert error={found.error} retry={found.refetch} /> : null}
			{written && (
				<div className="mt-1">
					{choice.terms.length > 0 && (
						<p className="mb-1 font-mono text-faint text-sm break-words">
							{expressionOf({ terms: choice.terms })} <span className="font-sans">and</span>
						</p>
					)}
					<Expression
						label="Expression"
						value={choice.where ?? ""}
						onChange={(where) => onChange({ ...choice, where: where || undefined })}
					/>
					{!empty && (
						<button type="button" className="link text-sm" onClick={() => onChange(everyDevice)}>
							Pick anew
						</button>
					)}
				</div>
			)}
		</div>
	);
}
