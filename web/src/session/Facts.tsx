import type { ReactNode } from "react";
import type { Schemas } from "../api/client";
import { Tags } from "../fleet/Tags";
import { Level } from "../parts/Condition";
import { Ago, span } from "../parts/time";
import { bytes, memory } from "../parts/units";
import { Standing } from "../vitals/Standing";

/** What a device is, and what is wrong with it. */
export function Facts({ detail, vitals: v }: { detail: Schemas["DeviceDetail"]; vitals?: Schemas["Vitals"] }) {
	const f = detail.facts;
	const d = detail.device;
	return (
		<aside aria-label="Facts" className="w-72 shrink-0 space-y-4 overflow-auto border-line border-r px-4 py-3">
			{detail.findings.length > 0 && (
				<ul className="space-y-2">
					{detail.findings.map((g) => (
						<li key={`${g.check} ${g.subject}`} className="flex gap-2">
							<span className="mt-0.5">
								<Level level={g.level} check={g.check} />
							</span>
							<span>
								{g.message}{" "}
								<span className="text-faint">
									<Ago at={g.since} />
								</span>
							</span>
						</li>
					))}
				</ul>
			)}
			{v && (
				<section>
					<h2 className="mb-1 font-semibold">Disks</h2>
					{v.disks.map((k) => {
						const used = k.total_bytes ? (100 * k.used_bytes) / k.total_bytes : 0;
						return (
							<div key={k.mount}>
								<div className="flex justify-between gap-2">
									<span className="truncate font-medium">{k.mount}</span>
									<span className="tabular-nums">
										{bytes(k.total_bytes - k.used_bytes)} of {bytes(k.total_bytes)} left
									</span>
								</div>
								<div className="mt-0.5 mb-1 h-1.5 rounded-full bg-line">
									<div
										className={`h-full rounded-full ${used >= 95 ? "bg-rowan" : used >= 90 ? "bg-gorse-fill" : "bg-heather"}`}
										style={{ width: `${used}%` }}
									/>
								</div>
							</div>
						);
					})}
				</section>
			)}
			{v && v.people.length > 0 && (
				<Group title="People">
					{v.people.map((p) => (
						<Fact key={`${p.name} ${p.where}`} name={p.name}>
							{p.idle_seconds < 0 ? p.where : p.idle_seconds < 60 ? "active" : `idle ${span(p.idle_seconds)}`}
						</Fact>
					))}
				</Group>
			)}
			{v && v.temperatures.length > 0 && (
				<Group title="Temperatures">
					{v.temperatures.map((t) => (
						<Fact key={t.sensor} name={t.sensor}>
							{t.celsius.toFixed(1)} °C{" "}
							<Standing device={d} of={`temperature ${t.sensor}`} label={`Temperature ${t.sensor}`} />
						</Fact>
					))}
				</Group>
			)}
			{f && (
				<Group title="Device">
					<Fact name="System">
						{f.os_name} {f.os_version} <Standing device={d} of="os_version" label="Version of the system" />
					</Fact>
					<Fact name="Kernel">{f.kernel}</Fact>
					<Fact name="Made by">{f.vendor}</Fact>
					<Fact name="Model">
						{f.model} {f.model && <Standing device={d} of="model" label="Model" />}
					</Fact>
					<Fact name="Serial">{f.serial}</Fact>
					<Fact name="Processor">{f.cpu_model}</Fact>
					<Fact name="Cores">{f.cores}</Fact>
					<Fact name="Memory">{f.memory_bytes ? memory(f.memory_bytes) : ""}</Fact>
					<Fact name="Swap used">{v ? `${v.swap.toFixed(0)} %` : ""}</Fact>
					<Fact name="Load">{v && f.os !== "windows" ? v.load1.toFixed(2) : ""}</Fact>
					<Fact name="Address">{f.addresses?.join(", ")}</Fact>
					<Fact name="Time zone">{f.time_zone}</Fact>
					<Fact name="Up for">{v ? span(v.uptime_seconds) : ""}</Fact>
				</Group>
			)}
			<Tags device={d} />
			<Group title="Agent">
				<Fact name="Version">
					{d.agent_version} <Standing device={d} of="agent_version" label="Version of the agent" />
				</Fact>
				<Fact name="Offers">{d.capabilities.join(", ")}</Fact>
				<Fact name="Enrolled">
					<Ago at={detail.enrolled_at} />
				</Fact>
			</Group>
		</aside>
	);
}

function Group({ title, children }: { title: string; children: ReactNode }) {
	return (
		<section>
			<h2 className="mb-1 font-semibold">{title}</h2>
			<dl className="grid grid-cols-[5.5rem_1fr] gap-x-2 gap-y-0.5">{children}</dl>
		</section>
	);
}

function Fact({ name, children }: { name: string; children: ReactNode }) {
	if (children === "" || children === undefined) return null;
	return (
		<>
			<dt className="text-faint">{name}</dt>
			<dd className="min-w-0 break-words">{children}</dd>
		</>
	);
}
