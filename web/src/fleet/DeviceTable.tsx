import { ChevronDownIcon, ChevronUpIcon } from "@heroicons/react/20/solid";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type MouseEvent, useEffect, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Device } from "../api/client";
import { Condition } from "../parts/Condition";
import { type Column, personText, type Sort } from "./rows";

const rowHeight = 30;
const cardHeight = 64; // on a small screen

/**
 * Devices in rows, ten thousand and more. Rows are chosen by their boxes, with Shift up to there, or with the
 * arrow keys and Shift; Space looks closer at the row where one is, Enter opens it.
 */
export function DeviceTable({
	rows,
	visible,
	sort,
	setSort,
	chosen,
	onChoose,
	peeked,
	onPeek,
	cards,
}: {
	rows: Device[];
	visible: Column[];
	sort: Sort;
	setSort: (s: Sort) => void;
	chosen: ReadonlySet<string>;
	onChoose: (ids: Set<string>) => void;
	peeked: string | undefined;
	onPeek: (id: string | undefined) => void;
	cards: boolean; // on a small screen
}) {
	const scroll = useRef<HTMLDivElement>(null);
	const navigate = useNavigate();
	const [at, setAt] = useState(-1); // the row where one is
	const anchor = useRef(0);
	const virtual = useVirtualizer({
		count: rows.length,
		getScrollElement: () => scroll.current,
		estimateSize: () => (cards ? cardHeight : rowHeight),
		overscan: 12,
	});
	useEffect(() => virtual.measure(), [virtual, cards]);
	const grid = { gridTemplateColumns: `1.5rem ${visible.map((c) => c.width).join(" ")}` };

	const chooseTo = (index: number, extend: boolean) => {
		const row = rows[index];
		if (!row) return;
		const next = new Set(chosen);
		if (extend) {
			const [from, to] = [Math.min(anchor.current, index), Math.max(anchor.current, index)];
			for (const d of rows.slice(from, to + 1)) next.add(d.id);
		} else {
			anchor.current = index;
			if (!next.delete(row.id)) next.add(row.id);
		}
		setAt(index);
		onChoose(next);
	};
	const onRow = (index: number, e: MouseEvent) => {
		const row = rows[index];
		if (!row) return;
		if (e.shiftKey || e.ctrlKey || e.metaKey) {
			chooseTo(index, e.shiftKey);
			return;
		}
		anchor.current = index;
		setAt(index);
		onPeek(peeked === row.id ? undefined : row.id);
	};
	const onKey = (e: KeyboardEvent) => {
		if (e.target !== e.currentTarget) return;
		const row = rows[at];
		const page = Math.max(1, Math.floor((scroll.current?.clientHeight ?? 0) / rowHeight) - 2);
		const by = {
			ArrowDown: 1,
			ArrowUp: -1,
			PageDown: page,
			PageUp: -page,
			Home: -rows.length,
			End: rows.length,
		}[e.key];
		if (by) {
			const next = Math.min(Math.max(at + by, 0), rows.length - 1);
			if (e.shiftKey) chooseTo(next, true);
			else {
				anchor.current = next;
				setAt(next);
				if (peeked) onPeek(rows[next]?.id);
			}
			virtual.scrollToIndex(next);
		} else if (e.key === " " && row) {
			if (e.ctrlKey) chooseTo(at, false);
			else onPeek(peeked === row.id ? undefined : row.id);
		} else if (e.key === "Enter" && row) navigate(`/devices/${row.id}`);
		else if (e.key === "a" && (e.ctrlKey || e.metaKey)) onChoose(new Set(rows.map((d) => d.id)));
		else if (e.key === "Escape" && peeked) onPeek(undefined);
		else if (e.key === "Escape" && chosen.size > 0) onChoose(new Set());
		else return;
		e.preventDefault();
	};
	const every = rows.length > 0 && rows.every((d) => chosen.has(d.id));
	return (
		<div
			ref={scroll}
			role="grid"
			aria-label="Devices"
			aria-multiselectable="true"
			aria-rowcount={rows.length + 1}
			aria-activedescendant={rows[at] ? `row-${rows[at].id}` : undefined}
			tabIndex={0}
			className="h-full overflow-auto focus-visible:outline-offset-[-2px]"
			onKeyDown={onKey}
		>
			<div className={cards ? "" : "min-w-fit"}>
				<div role="rowgroup" className={cards ? "sr-only" : "sticky top-0 z-10 border-line border-b bg-page"}>
					<div role="row" aria-rowindex={1} className="grid items-center gap-x-4 px-5" style={grid}>
						<div role="columnheader" className="flex">
							<input
								type="checkbox"
								className="accent-heather"
								aria-label="Choose all that are shown"
								checked={every}
								onChange={() => onChoose(new Set(every ? [] : rows.map((d) => d.id)))}
							/>
						</div>
						{visible.map((c) => (
							<Head key={c.id} column={c} sort={sort} setSort={setSort} />
						))}
					</div>
				</div>
				<div role="rowgroup" className="relative" style={{ height: virtual.getTotalSize() }}>
					{virtual.getVirtualItems().map((item) => {
						const d = rows[item.index];
						if (!d) return null;
						const on = chosen.has(d.id);
						const look = on || peeked === d.id ? "bg-heather-tint" : "hover:bg-panel";
						const here = item.index === at ? "outline-1 -outline-offset-1 outline-heather" : "";
						const box = (
							<div role="gridcell" className="flex">
								<input
									type="checkbox"
									tabIndex={-1}
									className="accent-heather"
									aria-label={`Choose ${d.name}`}
									checked={on}
									onClick={(e) => {
										e.stopPropagation();
										chooseTo(item.index, e.shiftKey);
									}}
									onChange={() => {}}
								/>
							</div>
						);
						return (
							// biome-ignore lint/a11y/useKeyWithClickEvents: the grid takes the keys
							<div
								key={d.id}
								id={`row-${d.id}`}
								role="row"
								tabIndex={-1}
								aria-rowindex={item.index + 2}
								aria-selected={on}
								className={`absolute inset-x-0 cursor-default items-center ${look} ${here} ${d.online ? "" : "text-faint"} ${cards ? "flex gap-x-3 border-line border-b px-3" : "grid gap-x-4 px-5"}`}
								style={{
									...(cards ? {} : grid),
									height: cards ? cardHeight : rowHeight,
									transform: `translateY(${item.start}px)`,
								}}
								onClick={(e) => onRow(item.index, e)}
								onDoubleClick={() => navigate(`/devices/${d.id}`)}
							>
								{box}
								{cards ? (
									<Card device={d} column={visible.find((c) => c.id === sort.id)} />
								) : (
									visible.map((c) => <Cell key={c.id} column={c} device={d} />)
								)}
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

function Name({ device: d }: { device: Device }) {
	return (
		<Link
			to={`/devices/${d.id}`}
			tabIndex={-1}
			className="truncate font-medium hover:text-heather hover:underline"
			onClick={(e) => e.stopPropagation()}
		>
			{d.name}
		</Link>
	);
}

function Cell({ column, device: d }: { column: Column; device: Device }) {
	const style = `truncate ${column.right ? "text-right tabular-nums" : ""} ${column.id === "address" || column.id === "serial" ? "tabular-nums" : ""}`;
	const text = column.text(d);
	const gone = column.id === "people" && d.people.length === 0;
	return (
		<div
			role="gridcell"
			className={`${style} ${gone ? "text-faint" : ""}`}
			title={gone && text ? `last: ${text}` : text}
		>
			{column.id === "name" ? (
				<Name device={d} />
			) : column.id === "condition" ? (
				<Condition name={d.condition} word />
			) : (
				text
			)}
		</div>
	);
}

/** A row of a small screen: the name, the condition, where it is and what it was sorted by. */
function Card({ device: d, column }: { device: Device; column: Column | undefined }) {
	const own =
		column && !["name", "condition", "site", "organisation"].includes(column.id) ? column.text(d) : personText(d);
	return (
		<>
			<div role="gridcell" className="flex min-w-0 flex-1 flex-col">
				<Name device={d} />
				<span className="truncate text-faint text-sm">{d.site}</span>
			</div>
			<div role="gridcell" className="flex shrink-0 flex-col items-end">
				<Condition name={d.condition} word />
				<span className="max-w-40 truncate text-faint text-sm tabular-nums">{own}</span>
			</div>
		</>
	);
}
