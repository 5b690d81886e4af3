// What tables and grids share: rows in the order of a column, and as CSV. No view stands here.

type Valued<T> = { head: string; value?: (row: T) => string | number | undefined };

/** By which head rows are sorted, and whether from the greatest down; nothing for their own order. */
export type Sort = { head: string; back: boolean } | undefined;

const collator = new Intl.Collator("en", { numeric: true });

/** Compares two values of a column: numbers as numbers, others as people sort texts with numbers in them. */
export function compare(x: string | number | undefined, y: string | number | undefined) {
	if (typeof x === "number" && typeof y === "number") return x - y;
	return collator.compare(String(x ?? ""), String(y ?? ""));
}

const none = (v: unknown) => v === undefined || v === "";

/** Puts two values in order, from the greatest down where back is; those that are none stand last either way. */
export function inOrder(x: string | number | undefined, y: string | number | undefined, back?: boolean) {
	if (none(x) || none(y)) return Number(none(x)) - Number(none(y));
	return back ? -compare(x, y) : compare(x, y);
}

/** The rows sorted by a column, those without a value last; rows that are equal keep their order. */
export function sorted<T>(rows: readonly T[], columns: readonly Valued<T>[], sort: Sort): readonly T[] {
	const value = columns.find((c) => c.head === sort?.head)?.value;
	if (!value) return rows;
	return rows.toSorted((a, b) => inOrder(value(a), value(b), sort?.back));
}

/** Rows as CSV (RFC 4180) with a line of heads: the columns that have a value. */
export function toCsv<T>(rows: readonly T[], columns: readonly Valued<T>[]) {
	const of = columns.filter((c) => c.value);
	const lines = [of.map((c) => c.head), ...rows.map((r) => of.map((c) => c.value?.(r)))];
	return lines.map((line) => `${line.map(cell).join(",")}\r\n`).join("");
}

/** One cell. A text that a spreadsheet would take for a formula is kept from being one. */
function cell(v: string | number | undefined) {
	if (typeof v === "number") return String(v);
	const text = /^[=+\-@\t\r]/.test(v ?? "") ? `'${v}` : (v ?? "");
	return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
}
