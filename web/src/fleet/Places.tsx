import { ChevronRightIcon } from "@heroicons/react/16/solid";
import { useMemo } from "react";
import type { Device } from "../api/client";
import { Condition } from "../parts/Condition";
import { compare } from "../parts/columns";
import { useKept } from "../parts/kept";
import { type Choice, type Term, withFacet } from "./choice";

type Tally = { devices: number; failing: number; degraded: number; silent: number };
type Site = Tally & { name: string };
type Organisation = Tally & { name: string; sites: Site[] };

/** The places of devices with how many there are of each condition. */
export function placesOf(devices: Iterable<Device>): Organisation[] {
	const found = new Map<string, Organisation & { byName: Map<string, Site> }>();
	const none = () => ({ devices: 0, failing: 0, degraded: 0, silent: 0 });
	for (const d of devices) {
		const o = found.get(d.organisation) ?? { ...none(), name: d.organisation, sites: [], byName: new Map() };
		const s = o.byName.get(d.site) ?? { ...none(), name: d.site };
		for (const t of [o, s]) {
			t.devices++;
			if (d.condition !== "healthy") t[d.condition]++;
		}
		o.byName.set(d.site, s);
		found.set(d.organisation, o);
	}
	return [...found.values()]
		.map(({ byName, ...o }) => ({ ...o, sites: [...byName.values()].sort((a, b) => compare(a.name, b.name)) }))
		.sort((a, b) => compare(a.name, b.name));
}

/** The tree of places: organisations, which fold, and their sites. A click shows what is there, with Ctrl more. */
export function Places({
	devices,
	choice,
	onChange,
}: {
	devices: Iterable<Device>;
	choice: Choice;
	onChange: (c: Choice) => void;
}) {
	const places = useMemo(() => placesOf(devices), [devices]);
	const [folded, setFolded] = useKept<string[]>("moorwatch folded places", []);
	const on = (t: Term) =>
		choice.terms.some((o) => !o.not && o.facet === t.facet && o.value === t.value && o.of === t.of);
	const take = (t: Term, more: boolean) => {
		const others = choice.terms.filter(
			(o) => o.facet === t.facet && (more || on(t)) && !(o.value === t.value && o.of === t.of),
		);
		const next = on(t) && (more || others.length === 0) ? others : [...(more ? others : []), t];
		const other = t.facet === "site" ? "organisation" : "site";
		onChange(withFacet(more ? choice : withFacet(choice, other, []), t.facet, next));
	};
	return (
		<nav aria-label="Places" className="h-full overflow-auto border-line border-r py-1 text-[0.95rem]">
			{places.map((o) => {
				const open = !folded.includes(o.name);
				return (
					<div key={o.name}>
						<div className="flex items-center">
							<button
								type="button"
								aria-expanded={open}
								aria-label={`Sites of ${o.name}`}
								className="grid size-[24px] place-items-center text-faint hover:text-word"
								onClick={() => setFolded(open ? [...folded, o.name] : folded.filter((n) => n !== o.name))}
							>
								<ChevronRightIcon className={`size-4 ${open ? "rotate-90" : ""}`} />
							</button>
							<Row
								name={o.name}
								tally={o}
								on={on({ facet: "organisation", value: o.name })}
								strong
								onTake={(more) => take({ facet: "organisation", value: o.name }, more)}
							/>
						</div>
						{open &&
							o.sites.map((s) => (
								<div key={s.name} className="flex pl-6">
									<Row
										name={s.name}
										tally={s}
										on={on({ facet: "site", value: s.name, of: o.name })}
										onTake={(more) => take({ facet: "site", value: s.name, of: o.name }, more)}
									/>
								</div>
							))}
					</div>
				);
			})}
		</nav>
	);
}

function Row({
	name,
	tally: t,
	on,
	strong,
	onTake,
}: {
	name: string;
	tally: Tally;
	on: boolean;
	strong?: boolean;
	onTake: (more: boolean) => void;
}) {
	const worst = t.failing > 0 ? "failing" : t.degraded > 0 ? "degraded" : t.silent === t.devices ? "silent" : undefined;
	const parts = (["failing", "degraded", "silent"] as const).filter((c) => t[c] > 0).map((c) => `${t[c]} ${c}`);
	return (
		<button
			type="button"
			aria-pressed={on}
			title={[`${t.devices} devices`, ...parts].join(", ")}
			className={`flex min-h-[24px] min-w-0 flex-1 items-center gap-1.5 rounded-l px-1.5 py-0.5 text-left ${on ? "bg-heather-tint" : "hover:bg-panel"}`}
			onClick={(e) => onTake(e.ctrlKey || e.metaKey || e.shiftKey)}
		>
			<span className={`truncate ${strong ? "font-medium" : ""}`}>{name}</span>
			<span className="ml-auto flex shrink-0 items-center gap-1.5 pl-1 text-faint text-sm tabular-nums">
				{worst && <Condition name={worst} />}
				{t.devices}
			</span>
		</button>
	);
}
