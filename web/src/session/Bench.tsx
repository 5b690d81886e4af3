import { CommandLineIcon, PlayIcon } from "@heroicons/react/20/solid";
import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { useParams, useSearchParams } from "react-router";
import { useMay } from "../access/me";
import { answer, api, type Schemas } from "../api/client";
import { Favourite } from "../fleet/Favourite";
import { Condition } from "../parts/Condition";
import { Trouble, Waiting } from "../parts/Trouble";
import { Ago, span } from "../parts/time";
import { useLiveVitals } from "../vitals/live";
import { Vitals } from "../vitals/Vitals";
import { CommandPane } from "./CommandPane";
import { Facts } from "./Facts";
import { ShellPane } from "./ShellPane";
import { Story } from "./Story";

/** The page where one device is worked on. */
export default function Bench() {
	const { id = "" } = useParams();
	const detail = useQuery({
		queryKey: ["device", id],
		queryFn: ({ signal }) => answer(api.GET("/devices/{id}", { params: { path: { id } }, signal })),
	});
	if (detail.isPending) return <Waiting what="the device" />;
	if (detail.isError && !detail.data)
		return (
			<div className="p-6">
				<Trouble error={detail.error} retry={() => detail.refetch()} />
			</div>
		);
	return <Work key={id} detail={detail.data} />;
}

function Work({ detail }: { detail: Schemas["DeviceDetail"] }) {
	const d = detail.device;
	const [params, setParams] = useSearchParams();
	const open = (params.get("pane") ?? "").split(",").filter(Boolean);
	const turn = (pane: string) => {
		const next = open.includes(pane) ? open.filter((p) => p !== pane) : [...open, pane];
		setParams(next.length ? { pane: next.join(",") } : {}, { replace: true });
	};
	const offers = (capability: string) => d.capabilities.includes(capability);
	const live = useLiveVitals(d.id, d.online && offers("vitals"));
	const latest = live.at(-1) ?? detail.vitals;
	useEffect(() => {
		document.title = `${d.name} – Moorwatch`;
		return () => {
			document.title = "Moorwatch";
		};
	}, [d.name]);
	const tools = [
		{ pane: "command", title: "Command", icon: PlayIcon, may: useMay("command.act") && offers("commands") },
		{ pane: "shell", title: "Shell", icon: CommandLineIcon, may: useMay("shell.act") && offers("shell") },
	].filter((t) => t.may);
	return (
		<div className="flex h-full flex-col">
			<header className="flex items-center gap-3 border-line border-b px-5 py-2.5">
				<Favourite device={d} />
				<h1 className="text-xl font-semibold">{d.name}</h1>
				<Condition name={d.condition} word />
				<p className="truncate text-faint">
					{d.organisation}, {d.site}. {d.online ? "Online" : "Silent"} for <Ago at={d.since} suffix="" />
					{latest && d.online && <>. {presence(latest.people)}</>}
				</p>
				<div className="ml-auto flex gap-1">
					{tools.map(({ pane, title, icon: Glyph }) => (
						<button
							key={pane}
							type="button"
							aria-pressed={open.includes(pane)}
							disabled={!d.online && !open.includes(pane)}
							title={d.online ? "The person at the device does not notice this tool." : "The device is not connected."}
							onClick={() => turn(pane)}
							className={`button-quiet ${open.includes(pane) ? "bg-heather-tint font-medium" : ""}`}
						>
							<Glyph className="size-4" aria-hidden="true" />
							{title}
						</button>
					))}
				</div>
			</header>
			<div className="flex min-h-0 flex-1">
				<Facts detail={detail} vitals={latest} />
				<div className="flex min-w-0 flex-1 flex-col">
					<Vitals device={d} live={live} findings={detail.findings} />
					<div className="flex min-h-0 flex-1">
						{open.includes("command") && <CommandPane device={d} onClose={() => turn("command")} />}
						{open.includes("shell") && <ShellPane device={d} onClose={() => turn("shell")} />}
						{open.length === 0 && <Story detail={detail} tools={tools.length} />}
					</div>
				</div>
			</div>
		</div>
	);
}

/** Who is at the device, and whether they work on it now. */
function presence(people: Schemas["SignedIn"][]) {
	if (people.length === 0) return "Nobody is signed in";
	return people
		.map((p) => (p.idle_seconds < 60 ? `${p.name} is at it` : `${p.name} has been away for ${span(p.idle_seconds)}`))
		.join("; ");
}
