import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { read, usePages } from "../api/queries";
import { Heading } from "../parts/Heading";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { HowBad, Mends } from "./Advisories";

/** One weakness: what it is, which software has it, on which devices, and what mends it. */
export function Advisory() {
	const { id = "" } = useParams();
	const one = useQuery({ ...read("/advisories/{advisory}", { path: { advisory: id } }), refetchInterval: 60_000 });
	const list = usePages(
		"/advisories/{advisory}/devices",
		{ path: { advisory: id }, query: { limit: 100 } },
		{ refetchInterval: 60_000 },
	);
	if (one.isPending) return <Waiting what="the advisory" />;
	if (one.isError) return <ProblemAlert error={one.error} retry={() => one.refetch()} />;
	const { advisory: a, software, details, vector, links, modified } = one.data;
	return (
		<div>
			<Heading title={a.id} />
			<div className="grid gap-6 px-5 py-4 xl:grid-cols-[26rem_1fr]">
				<section>
					<h2 className="mb-1 font-semibold text-lg">{a.summary}</h2>
					<HowBad of={a} />
					{details && details !== a.summary && <p className="mt-3 whitespace-pre-line">{details}</p>}
					<dl className="mt-4 grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
						{a.aliases.length > 0 && <Fact name="Also known as">{a.aliases.join(", ")}</Fact>}
						{a.published && (
							<Fact name="Published">
								<Ago at={a.published} />
							</Fact>
						)}
						{modified && (
							<Fact name="Changed">
								<Ago at={modified} />
							</Fact>
						)}
						{vector && (
							<Fact name="CVSS">
								<span className="break-all font-mono text-sm">{vector}</span>
							</Fact>
						)}
						{a.exploited?.due && (
							<Fact name="To be mended by">
								<Ago at={a.exploited.due} />
							</Fact>
						)}
						<Fact name="Feed">{a.feed}</Fact>
						<Fact name="What mends it">
							<Mends of={a} />
						</Fact>
						{links.length > 0 && (
							<Fact name="More">
								{links.slice(0, 6).map((l) => (
									<a key={l} className="link block break-all" href={l} target="_blank" rel="noreferrer noopener">
										{l}
									</a>
								))}
							</Fact>
						)}
					</dl>
				</section>
				<section>
					<h2 className="mb-1 font-semibold text-lg">
						{a.devices === 0
							? "No device has it"
							: `${a.devices} ${a.devices === 1 ? "device has" : "devices have"} it`}
					</h2>
					{software.length > 0 && (
						<p className="mb-3 text-faint">
							{software
								.slice(0, 8)
								.map((s) => `${s.name} ${s.version} (${s.devices})`)
								.join(", ")}
							{software.length > 8 && ` and ${software.length - 8} more`}
						</p>
					)}
					{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
					{list.rows.length > 0 && (
						<Table
							rows={list.rows}
							list={list}
							id={(d) => d.device_id}
							columns={[
								{
									head: "Device",
									value: (d) => d.device,
									show: (d) => (
										<>
											<Link className="link font-medium" to={`/devices/${d.device_id}`}>
												{d.device}
											</Link>
											<span className="block text-faint text-sm">
												{d.organisation}, {d.site}
											</span>
										</>
									),
								},
								{
									head: "Has",
									show: (d) =>
										d.software.map((s) => (
											<span key={s.name + s.version} className="block">
												{s.name} {s.version}
											</span>
										)),
								},
								{
									head: "Mended in",
									show: (d) =>
										d.software.map((s) => (
											<span key={s.name + s.version} className="block">
												{s.fixed || <span className="text-gorse">no version is known</span>}
											</span>
										)),
								},
							]}
						/>
					)}
				</section>
			</div>
		</div>
	);
}

function Fact({ name, children }: { name: string; children: React.ReactNode }) {
	return (
		<>
			<dt className="text-faint">{name}</dt>
			<dd>{children}</dd>
		</>
	);
}
