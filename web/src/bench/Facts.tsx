import { createContext, type ReactNode, useContext } from "react";
import type { Device, Schemas } from "../api/client";
import { Identity } from "../fleet/Identity";
import { Keeping } from "../fleet/Keeping";
import { Note } from "../fleet/Note";
import { Tags } from "../fleet/Tags";
import { Ago, span } from "../parts/time";
import { bytes, memory } from "../parts/units";
import { Standing } from "../vitals/Standing";

/** What a device is, and what is wrong with it. */
export function Facts({ detail, vitals: v }: { detail: Schemas["DeviceDetail"]; vitals?: Schemas["Vitals"] }) {
	const f = detail.facts;
	const d = detail.device;
	return (
		<Subject value={d}>
			<aside
				aria-label="Facts"
				className="w-72 shrink-0 space-y-4 overflow-auto border-line border-r px-4 py-3 max-md:order-last max-md:w-full max-md:border-t max-md:border-r-0"
			>
				{detail.question && <Identity question={detail.question} may={detail.permissions.includes("fleet.manage")} />}
				{v && (
					<section>
						<h2 className="mb-1 font-semibold">Disks</h2>
						{v.disks.map((k) => {
							const used = k.total_bytes ? (100 * k.used_bytes) / k.total_bytes : 0;
							return (
								<div key={k.mount}>
									<div className="flex justify-between gap-2">
										<span className="truncate font-medium">
											{k.mount} <Standing device={d} of={`disk ${k.mount}`} label={`Disk ${k.mount}`} />
										</span>
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
							<Fact key={t.sensor} name={t.sensor} of={`temperature ${t.sensor}`}>
								{t.celsius.toFixed(1)} °C
							</Fact>
						))}
					</Group>
				)}
				{f && (
					<Group title="Device">
						<Fact name="System" of="os_version">
							{[f.os_name, f.os_version].filter(Boolean).join(" ")}
						</Fact>
						<Fact name="Kernel" of="kernel">
							{f.kernel}
						</Fact>
						<Fact name="Made by" of="vendor">
							{f.vendor}
						</Fact>
						<Fact name="Model" of="model">
							{f.model}
						</Fact>
						<Fact name="Serial">{f.serial}</Fact>
						<Fact name="Processor" of="cpu_model">
							{f.cpu_model}
						</Fact>
						<Fact name="Cores" of="cores">
							{f.cores}
						</Fact>
						<Fact name="Memory" of="memory_bytes">
							{f.memory_bytes ? memory(f.memory_bytes) : ""}
						</Fact>
						<Fact name="Swap used" of="swap">
							{v ? `${v.swap.toFixed(0)} %` : ""}
						</Fact>
						<Fact name="Load" of="load">
							{v && f.os !== "windows" ? v.load1.toFixed(2) : ""}
						</Fact>
						<Fact name="Address">{f.addresses?.join(", ")}</Fact>
						<Fact name="Time zone" of="time_zone">
							{f.time_zone}
						</Fact>
						<Fact name="Up for">{v ? span(v.uptime_seconds) : ""}</Fact>
					</Group>
				)}
				<Note device={d} />
				<Tags device={d} />
				<Group title="Agent">
					<Fact name="Version" of="agent_version">
						{d.agent_version}
					</Fact>
					<Fact name="Offers">{d.capabilities.join(", ")}</Fact>
					<Fact name="Enrolled">
						<Ago at={detail.enrolled_at} />
					</Fact>
				</Group>
				{detail.permissions.includes("fleet.manage") && <Keeping device={d} />}
			</aside>
		</Subject>
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

const Subject = createContext<Device | undefined>(undefined);

/** A fact, and for one that others have too, where this device lies among them. */
function Fact({ name, of, children }: { name: string; of?: string; children: ReactNode }) {
	const device = useContext(Subject);
	if (children === "" || children === undefined) return null;
	return (
		<>
			<dt className="text-faint">{name}</dt>
			<dd className="min-w-0 break-words">
				{children} {of && device && <Standing device={device} of={of} label={name} />}
			</dd>
		</>
	);
}
