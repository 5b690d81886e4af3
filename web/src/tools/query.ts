// Queries as text, the way core/query of the service reads and writes them.

export type Condition = { field: string; op: string; value: string };
export type Query = { name: string; fields: string[]; where: Condition[]; most?: number };

export const ops = ["==", "!=", "<", "<=", ">", ">=", "contains", "starts", "matches"] as const;

/** Writes a query. */
export function queryText(q: Query) {
	const number = /^-?[0-9]+(\.[0-9]+)?$/;
	const where = q.where.map((c) => `${c.field} ${c.op} ${number.test(c.value) ? c.value : JSON.stringify(c.value)}`);
	return [
		q.name,
		where.length ? `where ${where.join(" and ")}` : "",
		q.fields.length ? `show ${q.fields.join(", ")}` : "",
		q.most ? `most ${q.most}` : "",
	]
		.filter(Boolean)
		.join(" ");
}

/** Reads a query that was written so; undefined for one that the builder cannot show. */
export function readQuery(text: string): Query | undefined {
	const word = /"(?:[^"\\]|\\.)*"|[=!<>]+|,|[^\s,"=!<>]+/g;
	if (text.replace(word, "").trim()) return undefined; // a text that does not end, say
	const words = text.match(word) ?? [];
	const q: Query = { name: words.shift() ?? "", fields: [], where: [] };
	for (let clause = words.shift(); clause; clause = words.shift()) {
		if (clause === "where" || clause === "and") {
			const [field = "", op = "", raw = ""] = words.splice(0, 3);
			try {
				q.where.push({ field, op, value: raw.startsWith('"') ? JSON.parse(raw) : raw });
			} catch {
				return undefined;
			}
		} else if (clause === "show" || clause === ",") q.fields.push(words.shift() ?? "");
		else if (clause === "most") q.most = Number(words.shift());
		else return undefined;
	}
	return q.name && queryText(q) ? q : undefined;
}
