import { ChevronDownIcon, ChevronUpIcon } from "@heroicons/react/20/solid";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useMemo, useRef, useState } from "react";
import { compare } from "./columns";

export type GridColumn<T> = {
	id: string;
	head: string;
	width: string; // as grid-template-columns takes it
	right?: boolean; // of numbers
	value: (row: T) => string | number;
	show?: (row: T) => ReactNode; // where it is not the value itself
};

const rowHeight = 27;

/**
 * A list of rows in columns that stays quick at a hundred thousand of them: it sorts by a head, its
 * rows are chosen by click, Shift, Ctrl and the arrow keys, and Enter opens one.
 */
export function Grid<T>({
	label,
	rows,
	columns,
	id,
	chosen,
	onChoose,
	onOpen,
	first,
	keep = false,
	faint,
}: {
	label: string;
	rows: T[];
	columns: GridColumn<T>[];
	id: (row: T) => string;
	chosen: ReadonlySet<string>;
	onChoose: (ids: Set<string>) => void;
	onOpen?: (row: T) => void;
	first?: { id: string; back: boolean }; // how it is sorted at first
	keep?: boolean; // the order of the rows is their own until a head is pressed
	faint?: (row: T) => boolean;
}) {
	const scroll = useRef<HTMLDivElement>(null);
	const [sort, setSort] = useState(first ?? { id: keep ? "" : (columns[0]?.id ?? ""), back: false });
	const sorted = useMemo(() => {
		const column = columns.find((c) => c.id === sort.id);
		if (!column) return rows;
		const back = sort.back ? -1 : 1;
		return rows.toSorted((a, b) => {
			return back * compare(column.value(a), column.value(b));
		});
	}, [rows, columns, sort]);
	const anchor = useRef(0);
	const virtual = useVirtualizer({
		count: sorted.length,
		getScrollElement: () => scroll.current,
		estimateSize: () => rowHeight,
		overscan: 10,
	});
	const template = { gridTemplateColumns: columns.map((c) => c.width).join(" ") };
	const choose = (at: number, e: { shiftKey: boolean; ctrlKey: boolean; metaKey: boolean }) => {
		const row = sorted[at];
		if (!row) return;
		if (e.shiftKey) {
			const [from, to] = [Math.min(anchor.current, at), Math.max(anchor.current, at)];
			onChoose(new Set(sorted.slice(from, to + 1).map(id)));
			return;
		}
		anchor.current = at;
		const next = new Set(e.ctrlKey || e.metaKey ? chosen : []);
		if (!next.delete(id(row)) || !(e.ctrlKey || e.metaKey)) next.add(id(row));
		onChoose(next);
	};
	const move = (by: number, e: { shiftKey: boolean; ctrlKey: boolean; metaKey: boolean }) => {
		const last = sorted.findIndex((row) => chosen.has(id(row)));
		const at = Math.min(Math.max(last + by, 0), sorted.length - 1);
		choose(at, { ...e, ctrlKey: false, metaKey: false, shiftKey: false });
		virtual.scrollToIndex(at);
	};
	return (
		<div
			ref={scroll}
			className="h-full overflow-auto"
			role="grid"
			aria-label={label}
			aria-multiselectable="true"
			aria-rowcount={sorted.length + 1}
			tabIndex={0}
			onKeyDown={(e) => {
				const by = { ArrowDown: 1, ArrowUp: -1, PageDown: 20, PageUp: -20, End: sorted.length, Home: -sorted.length }[
					e.key
				];
				const one = sorted.find((row) => chosen.has(id(row)));
				if (by) {
					e.preventDefault();
					move(by, e);
				} else if (e.key === "Enter" && one && e.target === e.currentTarget) onOpen?.(one);
				else if (e.key === "a" && (e.ctrlKey || e.metaKey)) {
					e.preventDefault();
					onChoose(new Set(sorted.map(id)));
				}
			}}
		>
			<div className="min-w-fit">
				<div role="rowgroup" className="sticky top-0 z-10 border-line border-b bg-page">
					<div role="row" className="grid gap-x-3 px-3" style={template}>
						{columns.map((c) => {
							const mine = sort.id === c.id;
							const Arrow = sort.back ? ChevronDownIcon : ChevronUpIcon;
							return (
								<div
									key={c.id}
									role="columnheader"
									aria-sort={mine ? (sort.back ? "descending" : "ascending") : "none"}
									className={c.right ? "text-right" : ""}
								>
									<button
										type="button"
										className={`head inline-flex min-h-6 items-center hover:text-word ${mine ? "text-word" : ""}`}
										onClick={() => setSort({ id: c.id, back: mine ? !sort.back : c.right === true })}
									>
										{c.head}
										{mine && <Arrow className="size-4" aria-hidden="true" />}
									</button>
								</div>
							);
						})}
					</div>
				</div>
				<div role="rowgroup" className="relative" style={{ height: virtual.getTotalSize() }}>
					{virtual.getVirtualItems().map((item) => {
						const row = sorted[item.index];
						if (!row) return null;
						const on = chosen.has(id(row));
						return (
							// biome-ignore lint/a11y/useKeyWithClickEvents: the grid takes the keys
							<div
								key={id(row)}
								role="row"
								tabIndex={-1}
								aria-rowindex={item.index + 2}
								aria-selected={on}
								className={`absolute inset-x-0 grid cursor-default items-center gap-x-3 px-3 select-none ${on ? "bg-heather-tint" : "hover:bg-panel"} ${faint?.(row) ? "text-faint" : ""}`}
								style={{ ...template, height: rowHeight, transform: `translateY(${item.start}px)` }}
								onClick={(e) => choose(item.index, e)}
								onDoubleClick={() => onOpen?.(row)}
							>
								{columns.map((c) => (
									<div
										key={c.id}
										role="gridcell"
										className={`truncate ${c.right ? "text-right tabular-nums" : ""}`}
										title={c.show ? undefined : String(c.value(row))}
									>
										{c.show ? c.show(row) : c.value(row)}
									</div>
								))}
							</div>
						);
					})}
				</div>
			</div>
		</div>
	);
}
