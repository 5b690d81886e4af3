import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../api/client";
import { meQuery, useMay } from "../api/me";
import { read } from "../api/queries";
import { Level } from "../parts/Condition";
import { AreaField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { stateText } from "./Alerts";
import { odds, useCheckTitle, useHandle } from "./alerts";
import { ResponseState } from "./Responses";

/** One alert: what it is about, what changed before it, what happened to it and what can be done. */
export function AlertPage() {
	const { id = "" } = useParams();
	const title = useCheckTitle();
	const whole = useQuery(read("/alerts/{id}", { path: { id } }));
	if (whole.isPending) return <Waiting what="the alert" />;
	if (whole.isError)
		return (
			<div className="p-6">
				<ProblemAlert error={whole.error} retry={() => whole.refetch()} />
			</div>
		);
	const { alert: a, events, next_step, parts } = whole.data;
	return (
		<div className="mx-auto max-w-5xl space-y-6 px-5 py-5">
			<header>
				<p className="flex items-center gap-2 text-faint">
					<Level level={a.level} check={a.check} />
					{title(a.check)}, {a.level}, {stateText(a)}
				</p>
				<h1 className="text-xl font-semibold">{a.message}</h1>
				<p className="text-faint">
					{a.device_id ? (
						<Link to={`/devices/${a.device_id}`} className="link underline">
							{a.device}
						</Link>
					) : (
						`${a.devices} devices`
					)}{" "}
					at {a.site}, {a.organisation}. It began <Ago at={a.since} />
					{a.resolved_at && (
						<>
							{" "}
							and ended <Ago at={a.resolved_at} />
						</>
					)}
					. Next step: {next_step}.
				</p>
			</header>
			{a.response && (
				<section aria-label="Response" className="rounded-md border border-line bg-panel p-3">
					<h2 className="font-semibold">
						{a.response.name}, by the policy {a.response.policy}: <ResponseState of={a.response} />
					</h2>
					<ul className="mt-1 list-inside list-disc">
						{a.response.said.map((s) => (
							<li key={s}>{s}</li>
						))}
					</ul>
					{a.response.job && (
						<Link to={`/jobs/${a.response.job}`} className="link underline">
							The job of its last step
						</Link>
					)}
				</section>
			)}
			<Actions alert={a} />
			{a.device_id && (
				<p>
					<Link
						to={`/devices/${a.device_id}?pane=events&around=${encodeURIComponent(a.since)}`}
						className="link underline"
					>
						The log of {a.device} around it
					</Link>
				</p>
			)}
			{a.device_id && <Suspects id={id} />}
			{parts.length > 0 && (
				<section>
					<h2 className="mb-1 font-semibold">Devices that it stands for</h2>
					<ul className="flex flex-wrap gap-x-4 gap-y-1">
						{parts.map((p) => (
							<li key={p.id}>
								<Link to={`/devices/${p.device_id}`} className="link">
									{p.device}
								</Link>
								{p.resolved_at && <span className="text-faint"> is back</span>}
							</li>
						))}
					</ul>
				</section>
			)}
			<section>
				<h2 className="mb-1 font-semibold">What happened</h2>
				<Table
					rows={events}
					id={(e) => `${e.at} ${e.kind}`}
					columns={[
						{ head: "When", className: "text-faint", value: (e) => e.at, show: (e) => <Ago at={e.at} /> },
						{ head: "What", value: (e) => e.kind },
						{ head: "By", className: "whitespace-nowrap", value: (e) => e.actor },
						{ head: "", className: "whitespace-pre-wrap", show: (e) => e.detail },
					]}
				/>
			</section>
		</div>
	);
}

const snoozes = [
	{ name: "1 hour", hours: 1 },
	{ name: "4 hours", hours: 4 },
	{ name: "1 day", hours: 24 },
	{ name: "1 week", hours: 168 },
];

function Actions({ alert: a }: { alert: Schemas["Alert"] }) {
	const may = useMay("alert.handle");
	const handle = useHandle(a.id);
	const [text, setText] = useState("");
	if (!may) return null;
	const go = (body: Schemas["AlertAction"]) =>
		handle.mutate({ ...body, text: text || undefined }, { onSuccess: () => setText("") });
	const over = a.state === "resolved";
	return (
		<section aria-label="What can be done" className="space-y-2 rounded-md border border-line bg-panel p-3">
			<AreaField
				label="Note"
				hidden
				placeholder="A note for others: what you found, what you did"
				rows={2}
				maxLength={4000}
				value={text}
				onChange={setText}
			/>
			<div className="flex flex-wrap items-center gap-1">
				{!over && a.state !== "acknowledged" && (
					<button type="button" className="button" onClick={() => go({ action: "acknowledge" })}>
						Acknowledge
					</button>
				)}
				<button type="button" className="button-quiet" disabled={!text} onClick={() => go({ action: "note" })}>
					Add the note
				</button>
				<Assign alert={a} onAssign={(assignee) => go({ action: "assign", assignee })} />
				{!over && (
					<>
						<span className="ml-3 text-faint">Put off for</span>
						{snoozes.map((s) => (
							<button
								key={s.name}
								type="button"
								className="button-quiet"
								onClick={() =>
									go({ action: "snooze", until: new Date(Date.now() + s.hours * 3_600_000).toISOString() })
								}
							>
								{s.name}
							</button>
						))}
						<button type="button" className="button-quiet ml-auto" onClick={() => go({ action: "resolve" })}>
							Resolve
						</button>
					</>
				)}
			</div>
			{handle.isError && <ProblemAlert error={handle.error} />}
		</section>
	);
}

function Assign({ alert: a, onAssign }: { alert: Schemas["Alert"]; onAssign: (email: string) => void }) {
	const me = useQuery(meQuery).data;
	if (!me) return null;
	return a.assignee === me.email ? (
		<button type="button" className="button-quiet" onClick={() => onAssign("")}>
			Give it up
		</button>
	) : (
		<button type="button" className="button-quiet" onClick={() => onAssign(me.email)}>
			Assign to me
		</button>
	);
}

function Suspects({ id }: { id: string }) {
	const list = useQuery(read("/alerts/{id}/suspects", { path: { id } }));
	if (list.isPending) return <Waiting what="what changed before" />;
	if (list.isError) return <ProblemAlert error={list.error} retry={() => list.refetch()} />;
	const { items, checked, devices, why_none } = list.data;
	return (
		<section aria-label="Suspects">
			<h2 className="mb-1 font-semibold">Suspects</h2>
			<p className="mb-2 max-w-prose text-faint">
				{checked} changes of the two weeks before were held against {devices} devices of the same system. A change is
				suspect where devices with it have this alert more often than chance allows.
			</p>
			{items.length === 0 ? (
				<Empty title="No change is suspect.">{why_none}</Empty>
			) : (
				<Table
					rows={items}
					id={(s) => s.signature}
					columns={[
						{ head: "What changed", className: "font-medium", value: (s) => s.summary },
						{ head: "When", value: (s) => s.at, show: (s) => <Ago at={s.at} /> },
						{ head: "Odds", className: "tabular-nums", show: (s) => odds(s.odds) },
						{
							head: "Interval, 95 %",
							className: "tabular-nums",
							show: (s) => (
								<>
									{s.low.toFixed(1)} to {s.high >= 1000 ? "over 1000" : s.high.toFixed(0)}
								</>
							),
						},
						{
							head: "Of those with it",
							show: (s) => <Share of={s.changed_with} all={s.changed_with + s.changed_without} />,
						},
						{ head: "Of the others", show: (s) => <Share of={s.others_with} all={s.others_with + s.others_without} /> },
					]}
				/>
			)}
		</section>
	);
}

/** How many of so many, with a bar. */
function Share({ of, all }: { of: number; all: number }) {
	return (
		<span className="flex items-center gap-2 tabular-nums">
			<span className="h-1.5 w-16 rounded-full bg-line" aria-hidden="true">
				<span className="block h-full rounded-full bg-heather" style={{ width: `${all ? (100 * of) / all : 0}%` }} />
			</span>
			{of} of {all}
		</span>
	);
}
