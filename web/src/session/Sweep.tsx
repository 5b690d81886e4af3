import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { Labelled } from "../access/Door";
import type { Schemas } from "../api/client";
import { Expression } from "../fleet/Expression";
import { useGroups } from "../fleet/Groups";
import { Table } from "../parts/Table";
import { Empty, Trouble } from "../parts/Trouble";
import { sweep } from "./run";

type Kind = Schemas["Question"]["kind"];
type Answered = Schemas["SweepEvent"];

const questions: { kind: Kind; label: string; hint: string }[] = [
	{ kind: "process", label: "Processes of a name", hint: "fenprint*" },
	{ kind: "service", label: "State of a service", hint: "Spooler" },
	{ kind: "port", label: "What listens on a port", hint: "445" },
	{ kind: "file", label: "A file, and its digest", hint: "C:\\Windows\\System32\\fenprint.dll" },
	{ kind: "item", label: "An item of the inventory", hint: "Fennick Print Driver" },
	{ kind: "registry", label: "A value of the registry", hint: "HKLM\\SOFTWARE\\Fennick\\Print\\Version" },
	{ kind: "log-on", label: "Who is signed in, and how long it took", hint: "" },
	{ kind: "fact", label: "A fact", hint: "kernel" },
];

type Result = { asked: number; offline: string[]; answers: Answered[]; silent: string[]; done: boolean };

/** A question put to all online devices of a group, answered as they reply. */
export function Sweep() {
	const groups = useGroups().data?.items ?? [];
	const [kind, setKind] = useState<Kind>("item");
	const [name, setName] = useState("");
	const [group, setGroup] = useState("");
	const [where, setWhere] = useState("");
	const [result, setResult] = useState<Result>();
	const [error, setError] = useState<unknown>();
	const ask = useRef<AbortController>(undefined);
	useEffect(() => () => ask.current?.abort(), []);
	const question = questions.find((q) => q.kind === kind);
	const running = result !== undefined && !result.done && error === undefined;

	const start = async () => {
		ask.current?.abort();
		const own = new AbortController();
		ask.current = own;
		let now: Result = { asked: 0, offline: [], answers: [], silent: [], done: false };
		let drawn = 0;
		setError(undefined);
		setResult(now);
		try {
			const body = {
				question: { kind, name, digest: kind === "file" },
				where: where.trim() || undefined,
				group: group || undefined,
			};
			await sweep(body, own.signal, (e) => {
				if (e.asked !== undefined) now = { ...now, asked: e.asked, offline: e.offline ?? [] };
				else if (e.done) now = { ...now, done: true, silent: e.silent ?? [] };
				else now = { ...now, answers: [...now.answers, e] };
				if (e.done || performance.now() - drawn > 100) {
					drawn = performance.now();
					setResult(now);
				}
			});
		} catch (e) {
			if (!own.signal.aborted) setError(e);
		}
		if (!own.signal.aborted) setResult({ ...now, done: true });
	};
	return (
		<div className="mx-auto max-w-6xl px-5 py-5">
			<h1 className="text-xl font-semibold">Sweep</h1>
			<p className="mb-3 text-faint">Ask every online device something, now. Nobody at a device notices.</p>
			<form
				className="mb-5 space-y-3 rounded-md border border-line bg-panel p-4"
				onSubmit={(e) => {
					e.preventDefault();
					start();
				}}
			>
				<div className="flex flex-wrap items-end gap-3">
					<Labelled label="Question">
						<select className="field w-72" value={kind} onChange={(e) => setKind(e.target.value as Kind)}>
							{questions.map((q) => (
								<option key={q.kind} value={q.kind}>
									{q.label}
								</option>
							))}
						</select>
					</Labelled>
					{kind !== "log-on" && (
						<input
							aria-label="Name"
							className="field w-96 font-mono text-sm"
							required
							placeholder={question?.hint}
							maxLength={1000}
							value={name}
							onChange={(e) => setName(e.target.value)}
						/>
					)}
					<Labelled label="Of">
						<select className="field w-48" value={group} onChange={(e) => setGroup(e.target.value)}>
							<option value="">all devices</option>
							{groups.map((g) => (
								<option key={g.id} value={g.id}>
									{g.name}
								</option>
							))}
						</select>
					</Labelled>
					{running ? (
						<button
							type="button"
							className="button"
							onClick={() => {
								ask.current?.abort();
								setResult((r) => r && { ...r, done: true });
							}}
						>
							Stop
						</button>
					) : (
						<button type="submit" className="button">
							Ask
						</button>
					)}
				</div>
				<details>
					<summary className="cursor-pointer text-faint">Only devices for which an expression holds</summary>
					<div className="mt-2">
						<Expression label="Only where" value={where} onChange={setWhere} />
					</div>
				</details>
			</form>
			{error !== undefined && <Trouble error={error} />}
			{result && <Answers result={result} />}
		</div>
	);
}

function Answers({ result: r }: { result: Result }) {
	const [open, setOpen] = useState<string>();
	const counts = new Map<string, Answered[]>();
	const failed = r.answers.filter((a) => a.error);
	for (const a of r.answers) {
		if (a.answer) counts.set(a.answer.value, [...(counts.get(a.answer.value) ?? []), a]);
	}
	const rows = [...counts].toSorted((a, b) => b[1].length - a[1].length || a[0].localeCompare(b[0]));
	const most = rows[0]?.[1].length ?? 1;
	const part = r.asked ? r.answers.length / r.asked : 1;
	return (
		<section aria-label="Answers">
			<p role="status" className="mb-1 tabular-nums">
				<span className="font-medium">
					{r.answers.length} of {r.asked} devices answered
				</span>
				{r.done ? "." : "…"}
				{r.offline.length > 0 && <span className="text-faint"> {r.offline.length} are silent and were not asked.</span>}
			</p>
			<div className="mb-3 h-1 rounded-full bg-line">
				<div className="h-full rounded-full bg-heather" style={{ width: `${100 * part}%` }} />
			</div>
			{r.done && r.asked === 0 && <Empty title="No device was asked.">None that is chosen is online.</Empty>}
			{rows.length > 0 && (
				<Table heads={["Answer", "Devices", "", "Such as"]}>
					{rows.map(([value, list]) => {
						const rare = list.length * 20 <= r.answers.length && rows.length > 1;
						return (
							<tr key={value} className="border-line border-b align-top">
								<td className="max-w-md py-1.5 pr-4 font-mono text-sm break-all">
									{value}
									{rare && <span className="ml-2 rounded-full bg-heather-tint px-2 font-sans">outlier</span>}
								</td>
								<td className="py-1.5 pr-4 text-right tabular-nums">{list.length}</td>
								<td className="w-40 py-1.5 pr-4">
									<span
										className="mt-1.5 block h-2 rounded-sm bg-heather/70"
										style={{ width: `${(100 * list.length) / most}%` }}
									/>
								</td>
								<td className="py-1.5">
									{(open === value ? list : list.slice(0, 4)).map((a, i) => (
										<span key={a.device_id}>
											{i > 0 && ", "}
											<Link className="link" title={a.answer?.lines?.join("\n")} to={`/devices/${a.device_id}`}>
												{a.device}
											</Link>
										</span>
									))}
									{list.length > 4 && open !== value && (
										<button type="button" className="button-quiet" onClick={() => setOpen(value)}>
											and {list.length - 4} more
										</button>
									)}
								</td>
							</tr>
						);
					})}
				</Table>
			)}
			{failed.length > 0 && (
				<p className="mt-3">
					<span className="font-medium">{failed.length} cannot tell: </span>
					{[...new Set(failed.map((a) => a.error))].map((why) => (
						<span key={why} className="block text-faint">
							{why}:{" "}
							{failed
								.filter((a) => a.error === why)
								.map((a) => a.device)
								.join(", ")}
						</span>
					))}
				</p>
			)}
			{r.silent.length > 0 && (
				<p className="mt-3">
					<span className="font-medium">No answer in time: </span>
					{r.silent.join(", ")}
				</p>
			)}
			{r.offline.length > 0 && <p className="mt-3 text-faint">Not asked, as they are silent: {r.offline.join(", ")}</p>}
		</section>
	);
}
