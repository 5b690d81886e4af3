import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from "@headlessui/react";
import { XMarkIcon } from "@heroicons/react/16/solid";
import { FunnelIcon } from "@heroicons/react/20/solid";
import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useMemo, useState } from "react";
import { read } from "../api/queries";
import { type Choice, same, type Term, withoutTerm, withTerm } from "./choice";
import { useDevices } from "./devices";
import { facetName, suggest, type Value, valuesOf, valueText } from "./facets";

const most = 10;

/**
 * Picks devices by what they have: what is typed is sought in places, conditions, systems, groups, tags,
 * software, people and names at once; what is taken stands as a chip. A leading ! picks what is not so.
 */
export function Picker({
	choice,
	onChange,
	label = "Pick devices",
	placeholder = "Site, condition, system, group, tag, person, name…",
	draft,
	onDraft,
	className = "",
}: {
	choice: Choice;
	onChange: (c: Choice) => void;
	label?: string;
	placeholder?: string;
	draft?: string; // what is typed and not taken yet, where the page wants to know
	onDraft?: (text: string) => void;
	className?: string;
}) {
	const [own, setOwn] = useState("");
	const typed = draft ?? own;
	const devices = useDevices().data;
	const late = useDeferredValue(typed);
	const not = late.startsWith("!");
	const text = (not ? late.slice(1) : late).trim();
	const values = useMemo(() => valuesOf(devices?.values() ?? []), [devices]);
	const software = useQuery({
		...read("/software", { query: { search: text, limit: 5 } }),
		enabled: text.length >= 2,
		staleTime: 60_000,
	}).data?.items;
	const offered = useMemo(() => {
		const found = suggest(values, text, choice, most);
		for (const s of (text.length >= 2 && software) || []) {
			const term: Term = { facet: "software", value: s.name };
			if (s.name.toLowerCase().includes(text.toLowerCase()) && !choice.terms.some((t) => same(t, term)))
				found.push({ term, text: s.name, count: s.devices });
		}
		if (text) found.unshift({ term: { facet: "text", value: text }, text: `“${text}”`, count: -1 });
		return found;
	}, [values, text, choice, software]);
	const type = onDraft ?? setOwn;
	const add = (v: Value | null) => {
		if (!v) return;
		// Who types quickly presses Enter before the list has followed: words are taken as they were typed.
		const value = v.term.facet === "text" ? typed.replace(/^!/, "").trim() : v.term.value;
		if (!value) return;
		const term = { ...v.term, value };
		onChange(withTerm(choice, not ? { ...term, not } : term));
		type("");
	};
	return (
		<Combobox immediate value={null as Value | null} onChange={add} by={(a, b) => a === b}>
			<div
				className={`flex min-h-9 min-w-0 flex-wrap items-center gap-1 rounded-md border border-edge bg-raised px-1.5 py-1 focus-within:outline-2 focus-within:outline-heather ${className}`}
			>
				<FunnelIcon className="mx-0.5 size-4 shrink-0 text-faint" aria-hidden="true" />
				<Chips choice={choice} onChange={onChange} />
				<ComboboxInput
					aria-label={label}
					type="search"
					placeholder={choice.terms.length > 0 ? "and…" : placeholder}
					className="min-w-20 flex-1 bg-transparent px-1 py-0.5 outline-none placeholder:text-faint [&::-webkit-search-cancel-button]:hidden"
					value={typed}
					autoComplete="off"
					spellCheck={false}
					maxLength={200}
					onChange={(e) => type(e.target.value)}
					onBlur={() => typed && onDraft && text && add({ term: { facet: "text", value: text }, text, count: -1 })}
					onKeyDown={(e) => {
						const last = choice.terms.at(-1);
						if (e.key === "Backspace" && typed === "" && last) onChange(withoutTerm(choice, last));
						if (e.key === "Escape" && typed) {
							e.stopPropagation();
							type("");
						}
					}}
				/>
			</div>
			<ComboboxOptions
				anchor={{ to: "bottom start", gap: 4 }}
				className="z-40 w-96 max-w-[calc(100vw-1rem)] rounded-md border border-line bg-raised py-1 shadow-xl empty:invisible"
			>
				{offered.map((v) => (
					<ComboboxOption
						key={`${v.term.facet}\n${v.term.value}\n${v.term.of ?? ""}`}
						value={v}
						className="flex cursor-pointer items-baseline gap-2 px-3 py-1 data-focus:bg-heather-tint"
					>
						<span className="w-24 shrink-0 text-faint text-sm">
							{not && "not "}
							{facetName[v.term.facet]}
						</span>
						<span className="min-w-0 truncate">{v.text}</span>
						{v.count >= 0 && <span className="ml-auto text-faint text-sm tabular-nums">{v.count}</span>}
					</ComboboxOption>
				))}
			</ComboboxOptions>
		</Combobox>
	);
}

/** What is picked. A click on a chip turns it into its opposite. */
function Chips({ choice, onChange }: { choice: Choice; onChange: (c: Choice) => void }) {
	const devices = useDevices().data;
	const name = (id: string) => devices?.get(id)?.name;
	// Many devices that were chosen one by one are one chip.
	const single = choice.terms.filter((t) => t.facet === "device" && !t.not);
	const together = single.length > 3;
	const shown = together ? choice.terms.filter((t) => !single.includes(t)) : choice.terms;
	return (
		<ul aria-label="Picked" className="contents">
			{together && (
				<Chip
					text={`${single.length} devices`}
					title={single.map((t) => valueText(t, name)).join(", ")}
					onRemove={() => onChange({ ...choice, terms: shown })}
				/>
			)}
			{shown.map((t) => (
				<Chip
					key={`${t.facet}\n${t.value}\n${t.of ?? ""}`}
					facet={facetName[t.facet]}
					not={t.not}
					text={valueText(t, name)}
					title={t.not ? "Click to pick those that have it" : "Click to leave those out that have it"}
					onTurn={() => onChange(withTerm(choice, { ...t, not: !t.not }))}
					onRemove={() => onChange(withoutTerm(choice, t))}
				/>
			))}
			{choice.where && (
				<Chip
					text={choice.where === "true" ? "every device" : "an expression"}
					title={choice.where}
					onRemove={() => onChange({ terms: choice.terms })}
				/>
			)}
		</ul>
	);
}

function Chip({
	facet,
	not,
	text,
	title,
	onTurn,
	onRemove,
}: {
	facet?: string;
	not?: boolean;
	text: string;
	title: string;
	onTurn?: () => void;
	onRemove: () => void;
}) {
	const what = `${not ? "not " : ""}${facet ? `${facet} ` : ""}${text}`;
	return (
		<li
			className={`inline-flex max-w-full items-center rounded-full text-sm ${not ? "bg-rowan-tint" : "bg-heather-tint"}`}
		>
			<button
				type="button"
				className="min-w-0 truncate py-0.5 pl-2.5"
				title={title}
				onClick={onTurn}
				disabled={!onTurn}
			>
				{not && <span className="font-medium text-rowan">not </span>}
				{facet && <span className="text-faint">{facet} </span>}
				{text}
			</button>
			<button
				type="button"
				aria-label={`Remove ${what}`}
				className="grid size-[24px] place-items-center rounded-full text-faint hover:text-word"
				onClick={onRemove}
			>
				<XMarkIcon className="size-3.5" />
			</button>
		</li>
	);
}
