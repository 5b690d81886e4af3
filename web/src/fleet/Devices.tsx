import { Popover, PopoverButton, PopoverPanel } from "@headlessui/react";
import { FolderIcon, ViewColumnsIcon } from "@heroicons/react/20/solid";
import { useCallback, useDeferredValue, useEffect, useMemo, useState } from "react";
import { Link, useLocation, useNavigate, useSearchParams } from "react-router";
import type { Device } from "../api/client";
import { CheckField } from "../parts/fields";
import { useKept } from "../parts/kept";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { useNarrow } from "../parts/screen";
import { Actions } from "./Actions";
import { type Choice, everyDevice, toParams } from "./choice";
import { these, useBrought } from "./chosen";
import { DeviceTable } from "./DeviceTable";
import { useDevices } from "./devices";
import { Expression } from "./Expression";
import { Peek } from "./Peek";
import { Picker } from "./Picker";
import { Places } from "./Places";
import { arrange, columns, type Sort, usualColumns } from "./rows";
import { useChosen } from "./useChosen";
import { Views } from "./Views";

/** The device list: places at the left, what is picked above, and what can be done with those that are chosen below. */
export function Devices() {
	const all = useDevices().data;
	const [choice, setChoice] = useChoice();
	const [draft, setDraft] = useState("");
	const found = useChosen(choice);
	const narrow = useNarrow(640);
	const [shown, setShown] = useKept<string[]>("moorwatch columns", usualColumns);
	const [sort, setSort] = useKept<Sort>("moorwatch sort", { id: "name", back: false });
	const [places, setPlaces] = useKept("moorwatch places", true);
	const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
	const [peeked, setPeeked] = useState<string>();
	const search = useDeferredValue(draft.startsWith("!") ? "" : draft);
	const rows = useMemo(() => arrange(found.devices, search, sort), [found.devices, search, sort]);
	const visible = columns.filter((c) => shown.includes(c.id));
	// What is not shown any more is not acted on.
	const selected = useMemo(() => rows.filter((d) => chosen.has(d.id)), [rows, chosen]);

	if (!all) {
		if (found.pending) return <Waiting what="the devices" />;
		return (
			<div className="p-6">
				<ProblemAlert error={found.error} retry={found.refetch} />
			</div>
		);
	}
	const total = all.size;
	const online = rows.filter((d) => d.online).length;
	const peek = peeked && all.get(peeked);
	const tree = places && !narrow && new Set([...all.values()].map((d) => d.site)).size > 1;
	return (
		<div className="flex h-full flex-col">
			<div className="flex flex-wrap items-center gap-x-3 gap-y-2 px-5 pt-3 pb-2 max-sm:px-3">
				<h1 className="sr-only">Devices</h1>
				<Picker
					choice={choice}
					onChange={setChoice}
					draft={draft}
					onDraft={setDraft}
					label="Search devices"
					className="max-w-3xl flex-1 basis-64"
				/>
				<p className="text-faint tabular-nums" role="status">
					{rows.length === total ? `${total} devices` : `${rows.length} of ${total} devices`}, {online} online
				</p>
				<div className="ml-auto flex items-center max-sm:hidden">
					<Views choice={choice} onChange={setChoice} />
					<Written choice={choice} onChange={setChoice} />
					<button
						type="button"
						className="button-quiet"
						aria-pressed={places}
						title={places ? "Hide the places" : "Show the places"}
						onClick={() => setPlaces(!places)}
					>
						<FolderIcon className="size-4" aria-hidden="true" /> Places
					</button>
					<Columns shown={shown} setShown={setShown} />
				</div>
			</div>
			{found.error ? (
				<div className="px-5 pb-2">
					<ProblemAlert error={found.error} retry={found.refetch} />
				</div>
			) : null}
			<div className="flex min-h-0 flex-1 border-line border-t">
				{tree && (
					<div className="w-56 shrink-0 max-lg:w-48">
						<Places devices={all.values()} choice={choice} onChange={setChoice} />
					</div>
				)}
				<div className="min-w-0 flex-1">
					{rows.length > 0 ? (
						<DeviceTable
							rows={rows}
							visible={visible}
							sort={sort}
							setSort={setSort}
							chosen={chosen}
							onChoose={setChosen}
							peeked={peeked}
							onPeek={setPeeked}
							cards={narrow}
						/>
					) : total === 0 ? (
						<Empty title="There is no device yet.">
							<Link to="/enrol" className="link">
								Enrol the first
							</Link>{" "}
							with a token and one command.
						</Empty>
					) : found.pending ? (
						<Waiting what="the devices" />
					) : (
						<Empty title="No device matches.">
							<button
								type="button"
								className="link"
								onClick={() => {
									setChoice(everyDevice);
									setDraft("");
								}}
							>
								Clear the search
							</button>{" "}
							to see all {total}.
						</Empty>
					)}
				</div>
				{peek && (
					<div className="shrink-0 max-sm:fixed max-sm:inset-0 max-sm:z-30 max-sm:[&>aside]:w-full">
						<Peek device={peek} onClose={() => setPeeked(undefined)} />
					</div>
				)}
			</div>
			{selected.length > 0 && (
				<section
					aria-label="Chosen devices"
					className="flex flex-wrap items-center gap-x-1 gap-y-0.5 border-line border-t bg-raised px-5 py-1.5 shadow-[0_-2px_8px_rgb(0_0_0/0.06)] max-sm:px-3"
				>
					<strong className="mr-2 tabular-nums">{selected.length} chosen</strong>
					<Actions devices={selected} choice={meant(selected, rows, choice)} shown={visible} />
					<button type="button" className="button-quiet ml-auto" onClick={() => setChosen(new Set())}>
						Clear
					</button>
				</section>
			)}
		</div>
	);
}

/** Those that are chosen: where it is all that are picked, what was picked, so that it stays short and readable. */
function meant(selected: Device[], rows: Device[], choice: Choice): Choice {
	const picked = choice.terms.length > 0 || !!choice.where;
	return picked && selected.length === rows.length && rows.length > 3 ? choice : these(selected.map((d) => d.id));
}

function Columns({ shown, setShown }: { shown: string[]; setShown: (ids: string[]) => void }) {
	return (
		<Popover>
			<PopoverButton className="button-quiet">
				<ViewColumnsIcon className="size-4" aria-hidden="true" /> Columns
			</PopoverButton>
			<PopoverPanel anchor="bottom end" className="z-30 w-48 rounded-md border border-line bg-raised p-2 shadow-lg">
				{columns.map((c) => (
					<CheckField
						key={c.id}
						className="flex items-center gap-2 rounded px-2 py-1 hover:bg-panel"
						disabled={c.id === "name"}
						checked={shown.includes(c.id)}
						onChange={(v) => setShown(v ? [...shown, c.id] : shown.filter((id) => id !== c.id))}
					>
						{c.head}
					</CheckField>
				))}
			</PopoverPanel>
		</Popover>
	);
}

/** The expression beside the chips, for what cannot be picked. */
function Written({ choice, onChange }: { choice: Choice; onChange: (c: Choice) => void }) {
	const [where, setWhere] = useState(choice.where ?? "");
	return (
		<Popover>
			<PopoverButton className="button-quiet" onClick={() => setWhere(choice.where ?? "")}>
				Expression
			</PopoverButton>
			<PopoverPanel
				anchor={{ to: "bottom end", gap: 4 }}
				className="z-30 w-[34rem] max-w-[calc(100vw-1rem)] rounded-md border border-line bg-raised p-3 shadow-lg"
			>
				{({ close }) => (
					<form
						onSubmit={(e) => {
							e.preventDefault();
							onChange({ ...choice, where: where.trim() || undefined });
							close();
						}}
					>
						<p className="mb-2 text-faint">Only devices for which this holds too:</p>
						<Expression label="Expression" value={where} onChange={setWhere} />
						<button type="submit" className="button mt-2">
							Show them
						</button>
					</form>
				)}
			</PopoverPanel>
		</Popover>
	);
}

/** What is picked, kept in the address so that it can be sent and is there on the way back. */
function useChoice(): [Choice, (c: Choice) => void] {
	const brought = useBrought();
	const [params] = useSearchParams();
	const { pathname } = useLocation();
	const go = useNavigate();
	const key = JSON.stringify(brought);
	const choice = useMemo(() => brought, [key]);
	const q = params.get("q"); // of older addresses
	const set = useCallback((c: Choice) => go(`${pathname}?${toParams(c)}`, { replace: true }), [go, pathname]);
	useEffect(() => {
		if (q) set({ terms: [{ facet: "text", value: q }] });
	}, [q, set]);
	return [choice, set];
}
