import { ChevronDownIcon, ChevronUpIcon } from "@heroicons/react/20/solid";
import { type ReactNode, useState } from "react";
import { type Sort, sorted, toCsv } from "./columns";
import { save } from "./save";

export type Column<T> = {
	head: string; // nothing for a column of signs or actions
	actions?: boolean; // buttons stand in it, which are higher than text
	value?: (row: T) => string | number | undefined; // what it is sorted by and saved as, where it can be
	show?: (row: T, at: number) => ReactNode; // where it is not the value itself
	right?: boolean; // of numbers
	title?: (row: T) => string | undefined; // shown where the pointer rests
	className?: string | ((row: T) => string);
};

/** A list that pages, as usePages gives it. */
export type Pages = { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };

/**
 * Rows in columns, for lists that are read rather than scrolled: cells may hold several lines. It sorts
 * by a head where the column has a value and all rows are there. For thousands of rows there is Grid.
 */
export function Table<T>({
	label,
	rows,
	columns,
	id,
	list,
	chosen,
	onChoose,
	file,
	className,
	empty,
}: {
	label?: string;
	rows: readonly T[];
	columns: readonly (Column<T> | false | undefined)[]; // false for one that is left out
	id: (row: T, at: number) => string | number;
	list?: Pages; // where more rows can be read
	chosen?: ReadonlySet<string>; // with onChoose: rows can be chosen
	onChoose?: (ids: Set<string>) => void;
	file?: string; // the name, without its ending, under which the rows can be saved as CSV
	className?: string | ((row: T) => string);
	empty?: ReactNode; // in place of rows, where there are none
}) {
	const [sort, setSort] = useState<Sort>();
	const all = columns.filter((c): c is Column<T> => !!c);
	const whole = !list?.hasNextPage;
	const shown = whole ? sorted(rows, all, sort) : rows;
	const ids = (some: readonly T[]) => some.map((r, at) => String(id(r, at)));
	const every = chosen && rows.length > 0 && ids(rows).every((i) => chosen.has(i));
	return (
		<>
			<table className={`${all.length > 6 ? "cards cards-soon" : "cards"} w-full border-collapse`} aria-label={label}>
				<thead>
					<tr className="border-line border-b">
						{onChoose && (
							<th scope="col" className="head w-8 py-1.5">
								<input
									type="checkbox"
									className="accent-heather"
									aria-label="Choose all"
									checked={every ?? false}
									onChange={() => onChoose(new Set(every ? [] : ids(rows)))}
								/>
							</th>
						)}
						{all.map((c, i) => (
							<Head key={c.head || i} column={c} sort={sort} setSort={whole && rows.length > 1 ? setSort : undefined} />
						))}
					</tr>
				</thead>
				<tbody>
					{shown.length === 0 && empty && (
						<tr>
							<td colSpan={all.length} className="py-1.5 text-faint">
								{empty}
							</td>
						</tr>
					)}
					{shown.map((row, at) => {
						const own = String(id(row, at));
						return (
							<tr key={own} className={`border-line border-b align-top ${of(className, row)}`}>
								{onChoose && (
									<td className="py-1.5">
										<input
											type="checkbox"
											className="accent-heather"
											aria-label={`Choose row ${at + 1}`}
											checked={chosen?.has(own) ?? false}
											onChange={() => {
												const next = new Set(chosen);
												if (!next.delete(own)) next.add(own);
												onChoose(next);
											}}
										/>
									</td>
								)}
								{all.map((c, i) => (
									<td
										key={c.head || i}
										title={c.title?.(row)}
										data-head={c.head || undefined}
										className={`${c.actions ? "py-1 text-right whitespace-nowrap" : "py-1.5 pr-4"} ${c.right ? "text-right tabular-nums" : ""} ${of(c.className, row)}`}
									>
										{c.show ? c.show(row, at) : c.value?.(row)}
									</td>
								))}
							</tr>
						);
					})}
				</tbody>
			</table>
			{list && <More list={list} />}
			{file && rows.length > 0 && (
				<button
					type="button"
					className="button-quiet mt-2 text-sm"
					onClick={() => save(`${file}.csv`, toCsv(shown, all))}
				>
					Save {whole ? "" : "what is shown "}as CSV
				</button>
			)}
		</>
	);
}

function of<T>(className: string | ((row: T) => string) | undefined, row: T) {
	return typeof className === "function" ? className(row) : (className ?? "");
}

function Head<T>({ column: c, sort, setSort }: { column: Column<T>; sort: Sort; setSort?: (s: Sort) => void }) {
	const mine = sort?.head === c.head && c.head !== "";
	const Arrow = sort?.back ? ChevronDownIcon : ChevronUpIcon;
	return (
		<th
			scope="col"
			className={`head py-1.5 pr-4 ${c.right ? "text-right" : ""}`}
			aria-sort={mine ? (sort?.back ? "descending" : "ascending") : undefined}
		>
			{!c.head ? (
				<span className="sr-only">Sign or action</span>
			) : c.value && setSort ? (
				<button
					type="button"
					className={`inline-flex items-center hover:text-word ${mine ? "text-word" : ""}`}
					onClick={() => setSort({ head: c.head, back: mine ? !sort?.back : c.right === true })}
				>
					{c.head}
					{mine && <Arrow className="size-4" aria-hidden="true" />}
				</button>
			) : (
				c.head
			)}
		</th>
	);
}

/** The button for the next page of a list; nothing after the last. */
export function More({ list }: { list: Pages }) {
	if (!list.hasNextPage) return null;
	return (
		<button
			type="button"
			className="button-quiet mt-3"
			onClick={() => list.fetchNextPage()}
			disabled={list.isFetchingNextPage}
		>
			{list.isFetchingNextPage ? "Reading more…" : "Show more"}
		</button>
	);
}
