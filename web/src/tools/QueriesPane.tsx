import { useMutation, useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { answer, api, type Device, ProblemError, type Schemas } from "../api/client";
import { lines } from "../api/lines";
import { useMay } from "../api/me";
import { read, useReadAnew } from "../api/queries";
import { AskLine } from "../parts/Confirm";
import { SelectField } from "../parts/fields";
import { Grid, type GridColumn } from "../parts/Grid";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { save } from "../parts/save";
import { Controls, Pane } from "./Pane";
import { ops, type Query, queryText, readQuery } from "./query";

type Row = { n: number; row: Record<string, unknown> };
type Class = Schemas["QueryClass"];

/** What is asked at first: services that failed, where the device has services. */
function usual(of: Class[] | undefined) {
	if (!of || of.some((c) => c.name === "service")) return 'service where state == "failed" show name, state, detail';
	return of[0]?.name ?? "";
}

/** Asks a device for management data: a class, fields and conditions, or the query as text. */
export function QueriesPane({ device, onClose }: { device: Device; onClose: () => void }) {
	const classes = useQuery({ ...read("/devices/{id}/queries", { path: { id: device.id } }), staleTime: 10 * 60_000 });
	const [typed, setText] = useState<string>();
	const text = typed ?? usual(classes.data?.items);
	const [asked, setAsked] = useState<{ rows: Row[]; fields: string[]; checked?: number }>();
	const [busy, setBusy] = useState(false);
	const [error, setError] = useState<unknown>();
	const stop = useRef<AbortController>(undefined);
	const query = readQuery(text);
	const found = classes.data?.items.find((c) => c.name === query?.name);
	const ask = async () => {
		stop.current?.abort();
		const mine = new AbortController();
		stop.current = mine;
		const rows: Row[] = [];
		const fields = query?.fields.length ? query.fields : (found?.fields.map((f) => f.name) ?? []);
		setBusy(true);
		setError(undefined);
		setAsked({ rows, fields });
		let checked: number | undefined;
		try {
			await lines<Schemas["QueryRow"]>(
				`/devices/${device.id}/queries`,
				mine.signal,
				(e) => {
					if (e.row) rows.push({ n: rows.length, row: e.row });
					if (e.done) checked = e.checked;
					if (e.more)
						throw new ProblemError({
							status: 0,
							title: "There are more rows.",
							detail: "Add a condition, or write most and a number at the end.",
						});
				},
				{ text },
			);
		} catch (problem) {
			if (!mine.signal.aborted) setError(problem);
		} finally {
			setBusy(false);
			setAsked({ rows: [...rows], fields: fields.length ? fields : Object.keys(rows[0]?.row ?? {}), checked });
		}
	};
	return (
		<Pane
			title="Queries"
			onClose={onClose}
			status={busy ? "asking…" : asked?.checked !== undefined && `${asked.rows.length} of ${asked.checked} rows`}
		>
			{classes.isPending && <Waiting what="what this device can be asked" />}
			{classes.isError && <ProblemAlert error={classes.error} retry={() => classes.refetch()} />}
			{classes.data && <Builder classes={classes.data.items} query={query} onChange={(q) => setText(queryText(q))} />}
			<form
				className="flex items-start gap-2 border-line border-b px-3 py-1.5"
				onSubmit={(e) => {
					e.preventDefault();
					ask();
				}}
			>
				<textarea
					className="field min-h-9 flex-1 font-mono text-sm"
					rows={Math.min(4, 1 + Math.floor(text.length / 90))}
					aria-label="Query"
					value={text}
					maxLength={2000}
					spellCheck={false}
					onChange={(e) => setText(e.target.value)}
					onKeyDown={(e) => {
						if (e.key === "Enter" && !e.shiftKey) {
							e.preventDefault();
							ask();
						}
					}}
				/>
				<button type="submit" className="button" disabled={!text.trim()}>
					Ask
				</button>
			</form>
			<Saved text={text} onUse={setText} rows={asked?.rows} fields={asked?.fields} device={device} />
			{error !== undefined && (
				<div className="px-3 py-1.5">
					<ProblemAlert error={error} />
				</div>
			)}
			{asked && asked.rows.length > 0 && <Rows asked={asked} />}
			{asked?.checked !== undefined && asked.rows.length === 0 && (
				<Empty title="No row fits.">{asked.checked} were checked at. Take a condition away to see more.</Empty>
			)}
		</Pane>
	);
}

function Rows({ asked }: { asked: { rows: Row[]; fields: string[] } }) {
	const columns = useMemo(
		() =>
			asked.fields.map(
				(name): GridColumn<Row> => ({
					id: name,
					head: name,
					width: "minmax(5rem, 1fr)",
					right: asked.rows.length > 0 && asked.rows.every((r) => typeof (r.row[name] ?? 0) === "number"),
					value: ({ row }) => {
						const v = row[name];
						return typeof v === "number" ? v : v === undefined || v === null ? "" : String(v);
					},
				}),
			),
		[asked],
	);
	return (
		<div className="min-h-0 flex-1">
			<Grid
				label="Rows"
				rows={asked.rows}
				columns={columns}
				id={(r) => String(r.n)}
				chosen={none}
				onChoose={() => {}}
				keep
			/>
		</div>
	);
}

const none = new Set<string>();

/** The query, made by choosing. */
function Builder({
	classes,
	query,
	onChange,
}: {
	classes: Class[];
	query: Query | undefined;
	onChange: (q: Query) => void;
}) {
	const found = classes.find((c) => c.name === query?.name);
	if (!query)
		return (
			<p className="border-line border-b px-3 py-1.5 text-faint text-sm">This query is more than can be chosen.</p>
		);
	const put = (i: number, c: Partial<Query["where"][number]>) =>
		onChange({ ...query, where: query.where.map((old, n) => (n === i ? { ...old, ...c } : old)) });
	return (
		<div className="space-y-1.5 border-line border-b px-3 py-1.5">
			<div className="flex flex-wrap items-center gap-1.5">
				<SelectField
					label="Class"
					hidden
					className="w-auto py-0.5 text-sm"
					value={query.name}
					onChange={(v) => onChange({ name: v, fields: [], where: [] })}
				>
					{!found && <option value={query.name}>{query.name}</option>}
					{classes.map((c) => (
						<option key={c.name} value={c.name}>
							{c.name}
						</option>
					))}
				</SelectField>
				<span className="text-faint text-sm">
					{found ? `${found.title}, from ${found.source}` : "The device has no such class."}
				</span>
			</div>
			{query.where.map((c, i) => (
				<div key={i} className="flex flex-wrap items-center gap-1.5">
					<span className="w-10 text-faint text-sm">{i === 0 ? "where" : "and"}</span>
					<SelectField
						label="Field"
						hidden
						className="w-auto py-0.5 text-sm"
						value={c.field}
						onChange={(v) => put(i, { field: v })}
					>
						{(found?.fields.some((f) => f.name === c.field) ? [] : [c.field]).map((f) => (
							<option key={f}>{f}</option>
						))}
						{found?.fields.map((f) => (
							<option key={f.name} value={f.name}>
								{f.name}
							</option>
						))}
					</SelectField>
					<SelectField
						label="Comparison"
						hidden
						className="w-auto py-0.5 text-sm"
						value={c.op}
						onChange={(v) => put(i, { op: v })}
					>
						{ops.map((o) => (
							<option key={o}>{o}</option>
						))}
					</SelectField>
					<input
						className="field w-48 py-0.5 text-sm"
						aria-label="Compared with"
						value={c.value}
						spellCheck={false}
						placeholder={found?.fields.find((f) => f.name === c.field)?.about}
						onChange={(e) => put(i, { value: e.target.value })}
					/>
					<button
						type="button"
						className="button-quiet px-1.5 py-0 text-sm"
						aria-label={`Take away the condition on ${c.field}`}
						onClick={() => onChange({ ...query, where: query.where.toSpliced(i, 1) })}
					>
						×
					</button>
				</div>
			))}
			<div className="flex flex-wrap items-center gap-x-3 gap-y-1 text-sm">
				<button
					type="button"
					className="button-quiet px-1.5 py-0"
					disabled={!found}
					onClick={() =>
						onChange({
							...query,
							where: [...query.where, { field: found?.fields[0]?.name ?? "name", op: "contains", value: "" }],
						})
					}
				>
					+ condition
				</button>
				<span className="text-faint">show</span>
				{found?.fields.map((f) => (
					<label key={f.name} className="flex min-h-6 items-center gap-1" title={f.about}>
						<input
							type="checkbox"
							className="accent-heather"
							checked={query.fields.length === 0 || query.fields.includes(f.name)}
							onChange={(e) => {
								const all = found.fields.map((x) => x.name);
								const had = query.fields.length ? query.fields : all;
								const next = e.target.checked ? [...had, f.name] : had.filter((x) => x !== f.name);
								onChange({ ...query, fields: next.length === all.length ? [] : next });
							}}
						/>
						{f.name}
					</label>
				))}
			</div>
		</div>
	);
}

/** Saved queries, and what can be done with this one beside asking it. */
function Saved({
	text,
	onUse,
	rows,
	fields,
	device,
}: {
	text: string;
	onUse: (text: string) => void;
	rows?: Row[];
	fields?: string[];
	device: Device;
}) {
	const sweep = useMay("device.sweep");
	const list = useQuery(read("/queries", { query: { limit: 500 } }));
	const again = useReadAnew("/queries");
	const keep = useMutation({
		mutationFn: (name: string) => answer(api.POST("/queries", { body: { name, text } })),
		onSettled: again,
	});
	const remove = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/queries/{id}", { params: { path: { id } } })),
		onSettled: again,
	});
	const here = list.data?.items.find((q) => q.text === text);
	return (
		<Controls>
			<SelectField
				label="Saved queries"
				hidden
				className="w-auto max-w-60 py-0.5 text-sm"
				value={here?.id ?? ""}
				onChange={(v) => {
					const q = list.data?.items.find((x) => x.id === v);
					if (q) onUse(q.text);
				}}
			>
				<option value="">Saved queries</option>
				{list.data?.items.map((q) => (
					<option key={q.id} value={q.id}>
						{q.name}
					</option>
				))}
			</SelectField>
			{here ? (
				<button type="button" className="button-quiet text-sm" onClick={() => remove.mutate(here.id)}>
					Forget it
				</button>
			) : (
				<AskLine label="Save" title="Save this query" verb="Save" field="Name" onDo={(name) => keep.mutate(name)} />
			)}
			{sweep && (
				<Link className="button-quiet text-sm" to={`/many?query=${encodeURIComponent(text)}`}>
					Ask many devices
				</Link>
			)}
			{rows && rows.length > 0 && (
				<button
					type="button"
					className="button-quiet text-sm"
					onClick={() => save(`${device.name}-query.csv`, csv(fields ?? [], rows))}
				>
					CSV
				</button>
			)}
			{(keep.error ?? remove.error) && <ProblemAlert error={keep.error ?? remove.error} />}
		</Controls>
	);
}

/** Rows as CSV (RFC 4180). What a spreadsheet would take for a formula is quoted so that it does not. */
function csv(fields: string[], rows: Row[]) {
	const cell = (v: unknown) => {
		const text = v === undefined || v === null ? "" : String(v);
		const safe = typeof v === "string" && /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
		return /[",\n\r]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
	};
	return `${[fields, ...rows.map((r) => fields.map((f) => r.row[f]))].map((r) => r.map(cell).join(",")).join("\r\n")}\r\n`;
}
