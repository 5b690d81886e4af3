import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { useMay } from "../api/me";
import { usePages } from "../api/queries";
import { Level } from "../parts/Condition";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { odds, useCheckTitle, useHandle } from "./alerts";
import { LateResponses, ResponseState } from "./Responses";
import { stepAt } from "./steps";

/** The first page: what needs a person now, in order of harm, each matter once. */
export function Now() {
	const list = usePages("/attention", { query: { limit: 100 } });
	if (list.isPending) return <Waiting what="what needs a person" />;
	if (list.isError)
		return (
			<div className="p-6">
				<ProblemAlert error={list.error} retry={() => list.refetch()} />
			</div>
		);
	const rows = list.rows;
	const first = list.data.pages[0];
	const all = Object.values(first?.devices ?? {}).reduce((a, b) => a + b, 0);
	return (
		<div className="mx-auto max-w-7xl px-5 py-5">
			<h1 className="text-xl font-semibold">What needs a person now</h1>
			{rows.length === 0 ? (
				all === 0 ? (
					<Empty title="There is no device yet.">
						<Link to="/enrol" className="link">
							Enrol the first
						</Link>{" "}
						with a token and one command.
					</Empty>
				) : (
					<Empty title="Nothing needs a person now.">
						No check of the {all} devices has an alert.{" "}
						<Link to="/alerts" className="link underline">
							See what there was
						</Link>
						.
					</Empty>
				)
			) : (
				<>
					<p className="mb-3 text-faint">
						{first?.total} {first?.total === 1 ? "matter" : "matters"} on {all} devices, worst first.{" "}
						{first && first.quiet > 0 && <>{first.quiet} more are put off or muted. </>}
						<Link to="/alerts" className="link underline">
							All alerts
						</Link>
					</p>
					<Table
						rows={rows}
						list={list}
						id={(r) => r.alert.id}
						className="hover:bg-panel"
						columns={[
							{ head: "", className: "w-7 pl-1", show: ({ alert: a }) => <Level level={a.level} check={a.check} /> },
							{ head: "Where", show: (r) => <Where alert={r.alert} alike={r.alike} /> },
							{ head: "What is wrong", show: (r) => <What of={r} /> },
							{ head: "First suspect", show: (r) => <Suspect of={r.alert} /> },
							{ head: "Since", right: true, className: "w-20", show: ({ alert: a }) => <Ago at={a.since} suffix="" /> },
							{
								head: "Next step",
								className: "w-56 pl-2",
								value: (r) => r.next_step,
								show: (r) => (
									<Link to={stepOf(r)} className="link">
										{r.next_step}
									</Link>
								),
							},
							{ head: "", actions: true, className: "w-24", show: (r) => <Acknowledge alert={r.alert} /> },
						]}
					/>
				</>
			)}
			<LateResponses />
		</div>
	);
}

/** Where the next step is taken. */
function stepOf({ alert: a, device: d, alike }: Schemas["Attention"]) {
	return (!alike && d && stepAt(d, a.check, a.subject, a.opened_at)) || `/alerts/${a.id}`;
}

function What({ of: { alert: a, device: d, alike } }: { of: Schemas["Attention"] }) {
	const title = useCheckTitle();
	return (
		<>
			<Link to={`/alerts/${a.id}`} className="hover:text-heather">
				{alike ? `${title(a.check)}: ${count(a, alike)} alike.` : a.message}
			</Link>
			<div className="text-faint text-sm">
				{alike
					? `${a.device}: ${a.message}`
					: d?.online
						? d.people.length > 0
							? `${d.people.join(", ")} ${d.people.length > 1 ? "are" : "is"} signed in`
							: "Nobody is signed in"
						: null}
			</div>
			{a.response && (
				<div className="text-sm">
					{a.response.name}: <ResponseState of={a.response} />
				</div>
			)}
		</>
	);
}

function Suspect({ of: a }: { of: Schemas["Alert"] }) {
	if (!a.suspect) return <span className="text-faint">none</span>;
	return (
		<Link to={`/alerts/${a.id}`} className="hover:text-heather">
			{a.suspect.summary}
			<div className="text-faint text-sm">
				odds {odds(a.suspect.odds)}: {a.suspect.changed_with} of {a.suspect.changed_with + a.suspect.changed_without}{" "}
				with it
			</div>
		</Link>
	);
}

/** How many devices alerts are about that are one matter. */
function devicesOf(a: Schemas["Alert"], alike: Schemas["Alike"][]) {
	return new Set([a.device_id, ...alike.map((x) => x.device_id)]).size;
}

function count(a: Schemas["Alert"], alike: Schemas["Alike"][]) {
	const devices = devicesOf(a, alike);
	return devices > 1 ? `${devices} devices` : `${alike.length + 1} alerts`;
}

function Where({ alert: a, alike }: { alert: Schemas["Alert"]; alike?: Schemas["Alike"][] }) {
	if (!a.device_id)
		return (
			<>
				<Link to={`/alerts/${a.id}`} className="font-medium hover:text-heather">
					{a.site}
				</Link>
				<div className="text-faint text-sm">
					{a.devices} devices of {a.organisation}
				</div>
			</>
		);
	if (alike && devicesOf(a, alike) > 1) {
		const sites = new Set([a.site, ...alike.map((x) => x.site)]).size;
		return (
			<>
				<Link to={`/alerts/${a.id}`} className="font-medium hover:text-heather">
					{devicesOf(a, alike)} devices
				</Link>
				<div className="text-faint text-sm">{sites === 1 ? a.site : `at ${sites} sites`}</div>
			</>
		);
	}
	return (
		<>
			<Link to={`/devices/${a.device_id}`} className="font-medium whitespace-nowrap hover:text-heather">
				{a.device}
			</Link>
			<div className="text-faint text-sm">{a.site}</div>
		</>
	);
}

function Acknowledge({ alert: a }: { alert: Schemas["Alert"] }) {
	const may = useMay("alert.handle");
	const handle = useHandle(a.id);
	if (a.state === "acknowledged")
		return <span className="text-faint text-sm">{a.assignee ? a.assignee.split("@")[0] : "seen"}</span>;
	if (!may) return null;
	return (
		<button
			type="button"
			className="button-quiet"
			disabled={handle.isPending}
			onClick={() => handle.mutate({ action: "acknowledge" })}
			aria-label={`Acknowledge: ${a.message}`}
		>
			Acknowledge
		</button>
	);
}
