import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { Empty } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";

type Answered = Schemas["SweepEvent"];
type Result = { asked: number; offline: string[]; answers: Answered[]; silent: string[]; done: boolean };

/** What comes back from many devices, as they reply. */
export function useAnswers() {
	const [result, setResult] = useState<Result>();
	const [error, setError] = useState<unknown>();
	const ask = useRef<AbortController>(undefined);
	useEffect(() => () => ask.current?.abort(), []);
	const start = async (put: (signal: AbortSignal, onEvent: (e: Answered) => void) => Promise<void>) => {
		ask.current?.abort();
		const own = new AbortController();
		ask.current = own;
		let now: Result = { asked: 0, offline: [], answers: [], silent: [], done: false };
		let drawn = 0;
		setError(undefined);
		setResult(now);
		try {
			await put(own.signal, (e) => {
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
	const stop = () => {
		ask.current?.abort();
		setResult((r) => r && { ...r, done: true });
	};
	return { result, error, running: result !== undefined && !result.done && error === undefined, start, stop };
}

/** The answers, equal ones together; what failed first where failures matter. */
export function Answers({ result: r, failures = "cannot tell" }: { result: Result; failures?: string }) {
	const [open, setOpen] = useState<string>();
	const counts = new Map<string, Answered[]>();
	const failed = r.answers.filter((a) => a.error);
	for (const a of r.answers) {
		if (a.answer) counts.set(a.answer.value, [...(counts.get(a.answer.value) ?? []), a]);
	}
	const rows = [...counts].toSorted((a, b) => b[1].length - a[1].length || a[0].localeCompare(b[0]));
	const most = rows[0]?.[1].length ?? 1;
	const part = r.asked ? r.answers.length / r.asked : 1;
	const fails = failed.length > 0 && (
		<p className="mt-3">
			<span className="font-medium">
				{failed.length} {failures}:{" "}
			</span>
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
	);
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
			{failures !== "cannot tell" && fails}
			{rows.length > 0 && (
				<Table
					rows={rows}
					id={([value, _list]) => value}
					columns={[
						{
							head: "Answer",
							className: "max-w-md font-mono text-sm break-all whitespace-pre-wrap",
							show: ([value, list]) => (
								<>
									{value}
									{list.length * 20 <= r.answers.length && rows.length > 1 && (
										<span className="ml-2 rounded-full bg-heather-tint px-2 font-sans">outlier</span>
									)}
								</>
							),
						},
						{ head: "Devices", right: true, show: ([_value, list]) => list.length },
						{
							head: "",
							className: "w-40",
							show: ([_value, list]) => (
								<span
									className="mt-1.5 block h-2 rounded-sm bg-heather/70"
									style={{ width: `${(100 * list.length) / most}%` }}
								/>
							),
						},
						{
							head: "Such as",
							show: ([value, list]) => (
								<>
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
								</>
							),
						},
					]}
				/>
			)}
			{failures === "cannot tell" && fails}
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
