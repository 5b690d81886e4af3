import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { useMayEverywhere } from "../api/me";
import { read, useReadAnew } from "../api/queries";
import { useOrganisations } from "../fleet/organisations";
import { Choice, Editor, RowActions } from "../parts/Editor";
import { SelectField, TextField } from "../parts/fields";
import { Heading } from "../parts/Heading";
import { Labelled } from "../parts/Labelled";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { figure } from "./words";

const spans = [7, 30, 90, 365] as const;

/** How current the devices are, over time and by where they are; and reports of it to hand to others. */
export function Reports() {
	const [organisation, setOrganisation] = useState("");
	const [days, setDays] = useState<(typeof spans)[number]>(30);
	const query = { organisation: organisation || undefined, days };
	const all = useQuery({ ...read("/updates/compliance", { query }), refetchInterval: 60_000 });
	const organisations = useOrganisations().data?.items ?? [];
	const file = (format: string) =>
		`/api/v1/updates/report?format=${format}&days=${days}${organisation ? `&organisation=${organisation}` : ""}`;
	return (
		<div>
			<Heading title="Reports">
				<SelectField
					label="Organisation"
					hidden
					className="ml-auto w-56 py-1"
					value={organisation}
					onChange={setOrganisation}
				>
					<option value="">All organisations</option>
					{organisations.map((o) => (
						<option key={o.id} value={o.id}>
							{o.name}
						</option>
					))}
				</SelectField>
				<a className="button" href={file("pdf")} download>
					PDF
				</a>
				<a className="button-quiet" href={file("html")} download>
					HTML
				</a>
			</Heading>
			<div className="px-5 py-4">
				<div className="mb-3 flex flex-wrap gap-1">
					<Choice of={spans} chosen={days} name={(d) => (d === 365 ? "a year" : `${d} days`)} onChoose={setDays} />
				</div>
				{all.isPending && <Waiting what="how current the devices are" />}
				{all.isError && <ProblemAlert error={all.error} retry={() => all.refetch()} />}
				{all.data && all.data.now.devices === 0 && (
					<Empty title="No device has told of updates yet.">
						Agents ask the sources of updates soon after they connect.
					</Empty>
				)}
				{all.data && all.data.now.devices > 0 && <Standing of={all.data} />}
				<Schedules />
			</div>
		</div>
	);
}

const share = (t: Schemas["PatchTally"]) => (t.devices ? (100 * t.current) / t.devices : 0);

function Standing({ of: c }: { of: Schemas["Compliance"] }) {
	const places = [...c.sites].sort((a, b) => share(a.tally) - share(b.tally));
	return (
		<>
			<ul className="mb-4 flex flex-wrap gap-x-8" aria-label="Totals">
				{figure(`${share(c.now).toFixed(0)} %`, `of ${c.now.devices} devices miss no security update`)}
				{figure(c.now.late, "miss one older than 30 days", c.now.late > 0 ? "text-rowan" : "text-moss")}
				{figure(c.now.exploited, "have a weakness that is exploited", c.now.exploited > 0 ? "text-rowan" : "text-moss")}
			</ul>
			<div className="grid gap-8 xl:grid-cols-[5fr_6fr]">
				<section>
					<h2 className="mb-2 font-semibold">By day</h2>
					<Days of={c.days} />
					<h2 className="mt-6 mb-2 font-semibold">Missing security updates, by age</h2>
					<Ages of={c.now} />
				</section>
				<section>
					<h2 className="mb-2 font-semibold">By site, the least current first</h2>
					<Table
						rows={places}
						id={(p) => p.name}
						columns={[
							{ head: "Site", value: (p) => p.name },
							{
								head: "Devices",
								right: true,
								value: (p) => p.tally.devices,
							},
							{
								head: "Current",
								right: true,
								value: (p) => p.tally.current,
							},
							{
								head: "",
								className: "w-32 pl-2",
								show: (p) => (
									<span className="flex items-center gap-2">
										<span className="h-2 flex-1 overflow-hidden rounded-full bg-line" aria-hidden="true">
											<span className="block h-full bg-moss" style={{ width: `${share(p.tally)}%` }} />
										</span>
										<span className="w-10 text-right tabular-nums">{share(p.tally).toFixed(0)} %</span>
									</span>
								),
							},
							{ head: "Late", right: true, value: (p) => p.tally.late },
							{
								head: "Missing",
								right: true,
								value: (p) => p.tally.missing,
							},
						]}
					/>
				</section>
			</div>
		</>
	);
}

const wide = 560;
const high = 150;

/** The share of devices that were current on each day, and of those that were late. */
function Days({ of: days }: { of: Schemas["DayTally"][] }) {
	const there = days.filter((d) => d.tally.devices > 0);
	if (there.length < 2)
		return <p className="text-faint">How it was on earlier days is not known yet: it is counted once a day.</p>;
	const x = (i: number) => 30 + ((wide - 34) * i) / (there.length - 1);
	const y = (percent: number) => 6 + (high - 28) * (1 - percent / 100);
	const line = (of: (t: Schemas["PatchTally"]) => number) =>
		there.map((d, i) => `${x(i).toFixed(1)},${y((100 * of(d.tally)) / d.tally.devices).toFixed(1)}`).join(" ");
	const first = there[0];
	const last = there[there.length - 1];
	const day = (d?: Schemas["DayTally"]) =>
		d && new Date(d.day).toLocaleDateString(undefined, { day: "numeric", month: "short" });
	return (
		<figure>
			<svg
				viewBox={`0 0 ${wide} ${high}`}
				className="w-full max-w-2xl"
				role="img"
				aria-label={`The share of current devices went from ${first ? share(first.tally).toFixed(0) : ""} % to ${last ? share(last.tally).toFixed(0) : ""} %.`}
			>
				{[0, 50, 100].map((p) => (
					<g key={p}>
						<line x1={30} x2={wide} y1={y(p)} y2={y(p)} className="stroke-line" />
						<text x={26} y={y(p) + 3} textAnchor="end" fontSize={10} className="fill-faint">
							{p} %
						</text>
					</g>
				))}
				<polyline
					fill="none"
					strokeWidth={2}
					className="stroke-rowan"
					strokeDasharray="4 3"
					points={line((t) => t.late)}
				/>
				<polyline fill="none" strokeWidth={2} className="stroke-moss" points={line((t) => t.current)} />
				<text x={30} y={high - 6} fontSize={10} className="fill-faint">
					{day(first)}
				</text>
				<text x={wide} y={high - 6} fontSize={10} textAnchor="end" className="fill-faint">
					{day(last)}
				</text>
			</svg>
			<figcaption className="flex gap-6 text-faint text-sm">
				<span>
					<span className="mr-1.5 inline-block h-0.5 w-5 bg-moss align-middle" aria-hidden="true" />
					miss no security update
				</span>
				<span>
					<span
						className="mr-1.5 inline-block w-5 border-rowan border-t-2 border-dashed align-middle"
						aria-hidden="true"
					/>
					miss one older than 30 days
				</span>
			</figcaption>
		</figure>
	);
}

const ages = ["up to a week", "up to 30 days", "up to 90 days", "older"];
const bands = [
	[["critical", "high"], "critical or high", "bg-rowan"],
	[["medium"], "medium", "bg-gorse-fill"],
	[["low", ""], "low or not told", "bg-mist"],
] as const;

/** How many security updates are missing, by age and severity. */
function Ages({ of: t }: { of: Schemas["PatchTally"] }) {
	const count = (severities: readonly string[], age: number) =>
		severities.reduce((sum, s) => sum + (t.grid?.[s]?.[age] ?? 0), 0);
	const sums = ages.map((_, i) => bands.reduce((sum, [s]) => sum + count(s, i), 0));
	const most = Math.max(...sums, 1);
	return (
		<table className="w-full max-w-2xl">
			<tbody>
				{ages.map((age, i) => (
					<tr key={age}>
						<th scope="row" className="w-28 py-0.5 text-left font-normal text-faint">
							{age}
						</th>
						<td className="py-0.5">
							<span className="flex items-center gap-2">
								<span className="flex h-3 flex-1 overflow-hidden rounded-sm">
									{bands.map(([s, name, fill]) => (
										<span
											key={name}
											className={fill}
											title={`${count(s, i)} ${name}`}
											style={{ width: `${(100 * count(s, i)) / most}%` }}
										/>
									))}
								</span>
								<span className="w-12 text-right tabular-nums">{sums[i]}</span>
							</span>
						</td>
					</tr>
				))}
			</tbody>
			<caption className="caption-bottom pt-1 text-left text-faint text-sm">
				{bands.map(([, name, fill]) => (
					<span key={name} className="mr-5">
						<span className={`mr-1.5 inline-block size-2.5 rounded-sm ${fill}`} aria-hidden="true" />
						{name}
					</span>
				))}
			</caption>
		</table>
	);
}

type New = Schemas["NewReportSchedule"];

/** Which reports are sent by e-mail, to whom and when. */
function Schedules() {
	const may = useMayEverywhere("updates.administer");
	const [editing, setEditing] = useState<{ id?: string; schedule: New }>();
	const readAnew = useReadAnew("/report-schedules");
	const list = useQuery({ ...read("/report-schedules", { query: { limit: 200 } }), refetchInterval: 60_000 });
	const remove = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/report-schedules/{id}", { params: { path: { id } } })),
		onSuccess: readAnew,
	});
	const send = useMutation({
		mutationFn: (id: string) => answer(api.POST("/report-schedules/{id}/sends", { params: { path: { id } } })),
		onSettled: readAnew,
	});
	const begin = () =>
		setEditing({
			schedule: {
				name: "",
				to: [],
				days: 30,
				when: {
					start: nextMonth(),
					rule: "FREQ=MONTHLY",
					minutes: 1,
					zone: Intl.DateTimeFormat().resolvedOptions().timeZone,
				},
			},
		});
	const rows = list.data?.items ?? [];
	return (
		<section className="mt-8">
			<h2 className="mb-2 flex items-center gap-4 font-semibold">
				Sent by e-mail
				{may && !editing && (
					<button type="button" className="button-quiet font-normal" onClick={begin}>
						New report by e-mail
					</button>
				)}
			</h2>
			{editing && (
				<ScheduleForm
					key={editing.id ?? "new"}
					id={editing.id}
					of={editing.schedule}
					onDone={() => {
						setEditing(undefined);
						readAnew();
					}}
				/>
			)}
			{(list.isError || remove.isError || send.isError) && (
				<ProblemAlert error={list.error ?? remove.error ?? send.error} />
			)}
			{list.data && rows.length === 0 && !editing && <p className="text-faint">No report is sent to anyone yet.</p>}
			{rows.length > 0 && (
				<Table
					rows={rows}
					id={(r) => r.id}
					columns={[
						{ head: "Report", className: "font-medium", value: (r) => r.schedule.name },
						{
							head: "About",
							show: (r) => (
								<>
									{r.organisation_name ?? "all organisations"}, {r.schedule.days} days
								</>
							),
						},
						{ head: "To", show: (r) => r.schedule.to.join(", ") },
						{
							head: "Next",
							value: (r) => r.next_at,
							show: (r) => (r.next_at ? <Ago at={r.next_at} /> : "not any more"),
						},
						{
							head: "Sent",
							show: (r) => (
								<>
									{r.sent_at ? <Ago at={r.sent_at} /> : "not yet"}
									{r.problem && <span className="block text-rowan text-sm">{r.problem}</span>}
								</>
							),
						},
						{
							head: "",
							actions: true,
							show: (r) =>
								may && (
									<>
										<button
											type="button"
											className="button-quiet"
											disabled={send.isPending}
											aria-label={`Send now: ${r.schedule.name}`}
											onClick={() => send.mutate(r.id)}
										>
											Send now
										</button>
										<RowActions
											name={r.schedule.name}
											onChange={() => setEditing({ id: r.id, schedule: r.schedule })}
											onRemove={() => remove.mutate(r.id)}
										/>
									</>
								),
						},
					]}
				/>
			)}
		</section>
	);
}

/** The first of next month, at seven. */
function nextMonth() {
	const d = new Date();
	const first = new Date(d.getFullYear(), d.getMonth() + 1, 1);
	return `${first.getFullYear()}-${String(first.getMonth() + 1).padStart(2, "0")}-01T07:00`;
}

const rhythms = [
	["FREQ=WEEKLY", "every week", 7],
	["FREQ=MONTHLY", "every month", 30],
	["FREQ=MONTHLY;INTERVAL=3", "every three months", 90],
	["", "once", 30],
] as const;

function ScheduleForm({ id, of, onDone }: { id?: string; of: New; onDone: () => void }) {
	const [s, setSchedule] = useState(of);
	const [to, setTo] = useState(of.to.join(", "));
	const organisations = useOrganisations().data?.items ?? [];
	const set = (change: Partial<New>) => setSchedule({ ...s, ...change });
	const save = useMutation({
		mutationFn: () => {
			const body = { ...s, to: to.split(/[,\s]+/).filter(Boolean) };
			return id
				? answer(api.PUT("/report-schedules/{id}", { params: { path: { id } }, body }))
				: answer(api.POST("/report-schedules", { body }));
		},
		onSuccess: onDone,
	});
	const known = rhythms.some(([rule]) => rule === (s.when.rule ?? ""));
	return (
		<Editor save={save} onCancel={onDone}>
			<div className="flex flex-wrap items-end gap-4">
				<TextField
					label="Name"
					className="w-56"
					required
					maxLength={200}
					value={s.name}
					onChange={(v) => set({ name: v })}
				/>
				<SelectField label="About" value={s.organisation ?? ""} onChange={(v) => set({ organisation: v || undefined })}>
					<option value="">All organisations</option>
					{organisations.map((o) => (
						<option key={o.id} value={o.id}>
							{o.name}
						</option>
					))}
				</SelectField>
				<TextField label="To, with commas between addresses" className="w-80" required value={to} onChange={setTo} />
				<TextField
					label="First sent"
					type="datetime-local"
					required
					value={s.when.start}
					onChange={(v) => set({ when: { ...s.when, start: v.slice(0, 16) } })}
				/>
				<SelectField
					label="Again"
					value={s.when.rule ?? ""}
					onChange={(v) =>
						set({
							when: { ...s.when, rule: v || undefined },
							days: rhythms.find(([rule]) => rule === v)?.[2] ?? s.days,
						})
					}
				>
					{rhythms.map(([rule, name]) => (
						<option key={rule} value={rule}>
							{name}
						</option>
					))}
					{!known && <option value={s.when.rule}>{s.when.rule}</option>}
				</SelectField>
				<Labelled label="Days that it tells of">
					<input
						className="field w-24"
						type="number"
						min={1}
						max={366}
						value={s.days}
						onChange={(e) => set({ days: Number(e.target.value) })}
					/>
				</Labelled>
			</div>
		</Editor>
	);
}
