import { useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { useMay } from "../api/me";
import { usePages } from "../api/queries";
import { JobForm } from "./JobForm";
import { Library } from "./Library";
import { PackageForm } from "./PackageForm";
import { conditionText, Steps } from "./Steps";
import { Versions } from "./Versions";

type Package = Schemas["Package"];

const actions = ["install", "remove"] as const;

/** The library of packages: read, changed, installed and removed. */
export function Packages() {
	const run = useMay("packages.act");
	const [asked, setAsked] = useState<{ id: string; action: (typeof actions)[number] }>();
	const actionAt = (p: Package) => (asked?.id === p.id ? asked.action : undefined);
	return (
		<Library<Package>
			of="package"
			list={usePages("/packages", { query: { limit: 200 } })}
			remove={(id) => answer(api.DELETE("/packages/{id}", { params: { path: { id } } }))}
			file={{ type: "application/yaml", ending: "yaml" }}
			removal="Devices keep what was installed."
			empty={
				"A package is files and steps in order: copy, install, set, restart. It is installed and removed on one device " +
				"or thousands, and a policy can want it."
			}
			title={(p) => `${p.content.name} ${p.content.version}`}
			note={(p) => `${p.content.version}, on ${p.devices ?? 0} ${p.devices === 1 ? "device" : "devices"}`}
			actions={(p) =>
				run &&
				actions
					.filter((d) => d === "install" || (p.content.remove ?? []).length > 0)
					.map((d) => (
						<button
							key={d}
							type="button"
							className={d === "install" ? "button" : "button-quiet"}
							aria-pressed={actionAt(p) === d}
							onClick={() => setAsked(actionAt(p) === d ? undefined : { id: p.id, action: d })}
						>
							{d === "install" ? "Install…" : "Remove from devices…"}
						</button>
					))
			}
			form={(p, onDone) => <PackageForm key={p?.id ?? "new"} package={p} onDone={onDone} />}
		>
			{(p) => <One of={p} action={actionAt(p)} />}
		</Library>
	);
}

function One({ of: p, action }: { of: Package; action?: (typeof actions)[number] }) {
	const c = p.content;
	return (
		<>
			{c.description && <p className="mt-1 max-w-3xl">{c.description}</p>}
			{action && (
				<JobForm
					key={action}
					work={{ package: p.id, remove: action === "remove" || undefined }}
					parameters={c.parameters ?? []}
					verb={action === "install" ? "Install it" : "Remove it"}
				/>
			)}
			<dl className="mt-4 grid max-w-3xl grid-cols-[8rem_minmax(0,1fr)] gap-x-4 gap-y-1">
				<dt className="text-faint">It is there when</dt>
				<dd>
					{conditionText(c.there)}
					{c.there.pattern && <span className="font-mono text-sm"> {c.there.pattern}</span>}
				</dd>
				<dt className="text-faint">Systems</dt>
				<dd>{c.systems?.join(", ") ?? "all"}</dd>
				{!!c.needs?.length && (
					<>
						<dt className="text-faint">Needs</dt>
						<dd>{c.needs.join(", ")}</dd>
					</>
				)}
				{!!c.replaces?.length && (
					<>
						<dt className="text-faint">Replaces</dt>
						<dd>{c.replaces.join(", ")}</dd>
					</>
				)}
				{!!c.files?.length && (
					<>
						<dt className="text-faint">Files</dt>
						<dd>
							{c.files.map((f) => (
								<span key={f.name} className="block">
									{f.name} <span className="text-faint tabular-nums">{size(f.size)}</span>{" "}
									<span className="font-mono text-faint text-sm" title={f.sha256}>
										{f.sha256.slice(0, 12)}…
									</span>
								</span>
							))}
						</dd>
					</>
				)}
			</dl>
			<Steps title="To install it" steps={c.install} />
			{!!c.remove?.length && <Steps title="To remove it" steps={c.remove} />}
			<Versions path="/packages/{id}/versions" id={p.id} />
		</>
	);
}

/** A size in decimal units. */
export function size(n: number) {
	if (n < 1000) return `${n} B`;
	if (n < 1e6) return `${(n / 1e3).toFixed(1)} kB`;
	return n < 1e9 ? `${(n / 1e6).toFixed(1)} MB` : `${(n / 1e9).toFixed(1)} GB`;
}
