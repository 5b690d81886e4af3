import type { Schemas } from "../api/client";
import { span } from "../parts/time";

type Step = Schemas["WorkStep"];

/** What a condition asks, in words. */
export function conditionText(c: Schemas["WorkCondition"]) {
	const is = c.not ? "is not" : "is";
	switch (c.kind) {
		case "software":
			return `${c.of} ${is} installed${c.is ? ` in version ${c.is} or later` : ""}`;
		case "service":
			return `service ${c.of} ${is} ${c.is || "running"}`;
		case "setting":
			return `${c.of} ${is} ${c.is || "set"}`;
		case "system":
			return `the system ${is} ${c.is}`;
		case "space":
			return `${c.of} ${c.not ? "has not" : "has"} ${c.is} MiB free`;
		case "signed-in":
			return `${c.not ? "nobody" : "somebody"} is signed in`;
	}
	return `${c.of} ${is} there`;
}

/** What a step does, in words. */
export function stepText(s: Step): string {
	if (s.title) return s.title;
	switch (s.do) {
		case "run":
			return `Run ${s.argv?.join(" ")}`;
		case "script":
			return `Run lines of ${s.interpreter}`;
		case "copy":
			return `Copy ${s.file} to ${s.to}`;
		case "install":
			return `Install ${s.file} by the package manager`;
		case "uninstall":
			return `Uninstall ${s.name} by the package manager`;
		case "edit":
			return s.gone ? `Remove lines of ${s.path} like ${s.find}` : `In ${s.path} write ${s.line} for ${s.find}`;
		case "set":
			return s.gone ? `Unset ${s.path}` : `Set ${s.path} to ${s.value}`;
		case "service":
			return `${s.action?.[0]?.toUpperCase()}${s.action?.slice(1)} the service ${s.name}`;
		case "delete":
			return `Delete ${s.path}`;
		case "restart":
			return "Restart the device, and go on afterwards";
		case "wait":
			return s.if?.length ? `Wait until ${s.if.map(conditionText).join(" and ")}` : `Wait ${span(s.seconds ?? 0)}`;
	}
	return s.do;
}

const onError: Record<string, string> = {
	continue: "goes on when it fails",
	undo: "undoes all when it fails",
};

/** Steps in their order. */
export function Steps({ title, steps }: { title: string; steps: Step[] }) {
	return (
		<section className="mt-4 max-w-3xl">
			<h3 className="mb-1 font-semibold">{title}</h3>
			<ol className="space-y-1">
				{steps.map((s, i) => (
					<li key={i} className="flex gap-3 rounded-md border border-line bg-panel px-3 py-1.5">
						<span className="text-faint tabular-nums">{i + 1}</span>
						<span className="min-w-0">
							{stepText(s)}
							<span className="block text-faint text-sm">
								{[
									s.do !== "wait" && s.if?.length ? `only where ${s.if.map(conditionText).join(" and ")}` : "",
									onError[s.on_error ?? ""] ?? "",
									s.repeatable ? "may be repeated" : "",
								]
									.filter(Boolean)
									.join("; ")}
							</span>
							{s.body && <pre className="mt-1 whitespace-pre-wrap break-words font-mono text-sm">{s.body}</pre>}
						</span>
					</li>
				))}
			</ol>
		</section>
	);
}
