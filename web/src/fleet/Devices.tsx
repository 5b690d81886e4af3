import { Popover, PopoverButton, PopoverPanel } from "@headlessui/react";
import { ChevronDownIcon, ChevronUpIcon, ViewColumnsIcon } from "@heroicons/react/20/solid";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useDeferredValue, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Device } from "../api/client";
import { Condition } from "../parts/Condition";
import { CheckField, TextField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { useDevices } from "./devices";
import { arrange, type Column, columns, type Sort, usualColumns } from "./rows";

const rowHeight = 30;

/** The device list. */
export function Devices() {
	const devices = useDevices();
	const [typed, setTyped] = useTyped();
	const [shown, setShown] = useKept<string[]>("moorwatch columns", usualColumns);
	const [sort, setSort] = useKept<Sort>("moorwatch sort", { id: "name", back: false });
	const search = useDeferredValue(typed);
	const rows = useMemo(() => arrange(devices.data?.values() ?? [], search, sort), [devices.data, search, sort]);
	const visible = columns.filter((c) => shown.includes(c.id));

	if (devices.isPending) return <Waiting what="the devices" />;
	if (devices.isError)
		return (
			<div className="p-6">
				<ProblemAlert error={devices.error} retry={() => devices.refetch()} />
			</div>
		);
	const total = devices.data.size;
	const online = rows.filter((d) => d.online).length;
	return (
		<div className="flex h-full flex-col">
			<div className="flex flex-wrap items-center gap-3 px-5 pt-4 pb-3">
				<h1 className="text-xl font-semibold">Devices</h1>
				<TextField
					label="Search devices"
					hidden
					className="min-w-40 max-w-xs"
					type="search"
					placeholder="Name, address, person or serial"
					value={typed}
					onChange={setTyped}
				/>
				<p className="text-faint tabular-nums" role="status">
					{rows.length === total ? `${total} devices` : `${rows.length} of ${total} devices`}, {online} online
				</p>
				<div className="ml-auto">
					<Choose shown={shown} setShown={setShown} />
				</div>
			</div>
			{rows.length > 0 ? (
				<Table rows={rows} visible={visible} sort={sort} setSort={setSort} />
			) : total === 0 ? (
				<Empty title="There is no device yet.">
					<Link to="/enrol" className="link">
						Enrol the first
					</Link>{" "}
					with a token and one command.
				</Empty>
			) : (
				<Empty title="No device matches.">
					<button type="button" className="link" onClick={() => setTyped("")}>
						Clear the search
					</button>{" "}
					to see all {total}.
				</Empty>
			)}
		</div>
	);
}

function Table({
	rows,
	visible,
	sort,
	setSort,
}: {
	rows: Device[];
	visible: Column[];
	sort: Sort;
	setSort: (s: Sort) => void;
}) {
	const scroll = useRef<HTMLDivElement>(null);
	const navigate = useNavigate();
	const virtual = useVirtualizer({
		count: rows.length,
		getScrollElement: () => scroll.current,
		estimateSize: () => rowHeight,
		overscan: 12,
	});
	const grid = { gridTemplateColumns: visible.map((c) => c.width).join(" ") };
	return (
		<div ref={scroll} className="min-h-0 flex-1 overflow-auto" tabIndex={-1}>
			<div role="table" aria-rowcount={rows.length + 1} aria-label="Devices" className="min-w-fit">
				<div role="rowgroup" className="sticky top-0 z-10 border-line border-b bg-page">
					<div role="row" aria-rowindex={1} className="grid gap-x-4 px-5" style={grid}>
						{visible.map((c) => (
							<Head key={c.id} column={c} sort={sort} setSort={setSort} />
						))}
					</div>
				</div>
				<div role="rowgroup" className="relative" style={{ height: virtual.getTotalSize() }}>
					{virtual.getVirtualItems().map((item) => {
						const d = rows[item.index];
						if (!d) return null;
						return (
							// biome-ignore lint/a11y/useKeyWithClickEvents: the name is a link, which keys reach; a click anywhere on the row is more
							<div
								key={d.id}
								role="row"
								tabIndex={-1}
								aria-rowindex={item.index + 2}
								className={`absolute inset-x-0 grid cursor-pointer items-center gap-x-4 px-5 hover:bg-panel ${d.online ? "" : "text-faint"}`}
								style={{ ...grid, height: rowHeight, transform: `translateY(${item.start}px)` }}
								onClick={() => navigate(`/devices/${d.id}`)}
							>
								{visible.map((c) => (
									<Cell key={c.id} column={c} device={d} />
								))}
							</div>
						);
					})}
				</div>
			</div>
		</div>
	);
}

function Head({ column, sort, setSort }: { column: Column; sort: Sort; setSort: (s: Sort) => void }) {
	const mine = sort.id === column.id;
	const Arrow = sort.back ? ChevronDownIcon : ChevronUpIcon;
	// The first click on a column of numbers shows the greatest first.
	const next = { id: column.id, back: mine ? !sort.back : column.right === true };
	return (
		<div
			role="columnheader"
			aria-sort={mine ? (sort.back ? "descending" : "ascending") : "none"}
			className={column.right ? "text-right" : ""}
		>
			<button
				type="button"
				className={`head inline-flex items-center gap-0.5 py-1.5 hover:text-word ${mine ? "text-word" : ""}`}
				onClick={() => setSort(next)}
			>
				{column.head}
				{mine && <Arrow className="size-4" aria-hidden="true" />}
			</button>
		</div>
	);
}

function Cell({ column, device: d }: { column: Column; device: Device }) {
	const style = `truncate ${column.right ? "text-right tabular-nums" : ""} ${column.id === "address" || column.id === "serial" ? "tabular-nums" : ""}`;
	const text = column.text(d);
	return (
		<div role="cell" className={style} title={text}>
			{column.id === "name" ? (
				<Link to={`/devices/${d.id}`} className="font-medium hover:text-heather" onClick={(e) => e.stopPropagation()}>
					{text}
				</Link>
			) : column.id === "condition" ? (
				<Condition name={d.condition} word />
			) : (
				text
			)}
		</div>
	);
}

function Choose({ shown, setShown }: { shown: string[]; setShown: (ids: string[]) => void }) {
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

/** What is typed into the search, kept in the address so that it can be shared. */
function useTyped(): [string, (s: string) => void] {
	const [params, setParams] = useSearchParams();
	const [typed, setTyped] = useState(params.get("q") ?? "");
	useEffect(() => {
		const timer = setTimeout(() => setParams(typed ? { q: typed } : {}, { replace: true }), 300);
		return () => clearTimeout(timer);
	}, [typed, setParams]);
	return [typed, setTyped];
}

/** A choice that is kept on this computer. */
function useKept<T>(name: string, usual: T): [T, (v: T) => void] {
	const [value, setValue] = useState<T>(() => {
		try {
			return JSON.parse(localStorage.getItem(name) ?? "") as T;
		} catch {
			return usual;
		}
	});
	return [
		value,
		(v) => {
			setValue(v);
			localStorage.setItem(name, JSON.stringify(v));
		},
	];
}
