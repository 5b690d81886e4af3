import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../api/client";
import { usePages } from "../api/queries";
import { Heading } from "../parts/Heading";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { figure } from "./words";

/** How far behind devices are, the most exposed first. */
export function Exposure() {
	const [params, setParams] = useSearchParams();
	const missing = params.get("missing") ?? undefined;
	const list = usePages("/exposure", { query: { limit: 100, missing } }, { refetchInterval: 60_000 });
	const totals = list.data?.pages[0]?.totals;
	return (
		<div>
			<Heading title="Exposure">
				{missing && (
					<span className="ml-auto flex items-center gap-2">
						that miss <strong>{missing}</strong>
						<button type="button" className="button-quiet" onClick={() => setParams({}, { replace: true })}>
							All devices
						</button>
					</span>
				)}
			</Heading>
			<div className="px-5 py-4">
				{list.isPending && <Waiting what="the exposure" />}
				{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
				{totals && totals.devices > 0 && <Totals of={totals} />}
				{list.data && list.rows.length === 0 && (
					<Empty title="No device has told of updates yet.">
						Agents ask the sources of updates soon after they connect.
					</Empty>
				)}
				{list.rows.length > 0 && (
					<Table
						rows={list.rows}
						list={list}
						id={(x) => x.device_id}
						columns={[
							{
								head: "Device",
								value: (x) => x.device,
								show: (x) => (
									<>
										<Link className="link font-medium" to={`/devices/${x.device_id}`}>
											{x.device}
										</Link>
										<span className="block text-faint text-sm">
											{x.organisation}, {x.site}
										</span>
									</>
								),
							},
							{
								head: "Score",
								className: "w-48",
								show: (x) => (
									<span className="flex items-center gap-2">
										<span className="w-7 text-right tabular-nums">{x.exposure.score.toFixed(0)}</span>
										<span className="h-2 flex-1 overflow-hidden rounded-full bg-line" aria-hidden="true">
											<span
												className={`block h-full ${x.exposure.score >= 50 ? "bg-rowan" : x.exposure.score >= 20 ? "bg-gorse-fill" : "bg-moss"}`}
												style={{ width: `${x.exposure.score}%` }}
											/>
										</span>
									</span>
								),
							},
							{
								head: "Security updates",
								className: "tabular-nums",
								value: (x) => x.exposure.security,
								show: (x) => (
									<>
										{x.exposure.security}
										{x.exposure.worst && <span className="text-faint">, the worst {x.exposure.worst}</span>}
										{x.problem && <span className="block max-w-sm text-gorse text-sm">{x.problem}</span>}
									</>
								),
							},
							{
								head: "Oldest of them",
								value: (x) => x.exposure.oldest,
								show: (x) => x.exposure.oldest && <Ago at={x.exposure.oldest} />,
							},
							{
								head: "Advisories",
								className: "tabular-nums",
								value: (x) => x.weaknesses,
								show: (x) => (
									<>
										{x.weaknesses > 0 && (
											<Link className="link" to={`/advisories?device=${x.device_id}`}>
												{x.weaknesses}
											</Link>
										)}
										{x.exploited > 0 && <span className="block text-rowan text-sm">{x.exploited} exploited</span>}
									</>
								),
							},
							{
								head: "Missing in all",
								className: "tabular-nums",
								value: (x) => x.exposure.missing,
							},
							{ head: "Approved", className: "tabular-nums", value: (x) => x.approved },
						]}
					/>
				)}
			</div>
		</div>
	);
}

function Totals({ of: t }: { of: Schemas["ExposureTotals"] }) {
	return (
		<ul className="mb-4 flex flex-wrap gap-x-8" aria-label="Totals">
			{figure(
				t.exposed,
				`of ${t.devices} devices miss a critical or high one`,
				t.exposed > 0 ? "text-rowan" : "text-moss",
			)}
			{t.exploited > 0 && figure(t.exploited, "have a weakness that is exploited", "text-rowan")}
			{figure(t.current, "miss no security update", "text-moss")}
			{figure(t.security, "security updates are missing in all")}
		</ul>
	);
}
