import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { useParams, useSearchParams } from "react-router";
import type { Schemas } from "../api/client";
import { Permitted } from "../api/me";
import { read } from "../api/queries";
import { Favourite } from "../fleet/Favourite";
import { Condition } from "../parts/Condition";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { useNarrow } from "../parts/screen";
import { Ago } from "../parts/time";
import { useLiveVitals } from "../vitals/live";
import { Vitals } from "../vitals/Vitals";
import { Arrangement, lastPanes, rememberPanes } from "./Arrangement";
import { Facts } from "./Facts";
import { Glance } from "./Glance";
import { Story } from "./Story";
import { tools } from "./tools";
import { Wake } from "./Wake";

/** The page where one device is worked on. */
export default function Bench() {
	const { id = "" } = useParams();
	const detail = useQuery(read("/devices/{id}", { path: { id } }));
	if (detail.isPending) return <Waiting what="the device" />;
	if (detail.isError && !detail.data)
		return (
			<div className="p-6">
				<ProblemAlert error={detail.error} retry={() => detail.refetch()} />
			</div>
		);
	return (
		<Permitted value={detail.data.permissions}>
			<Work key={id} detail={detail.data} />
		</Permitted>
	);
}

function Work({ detail }: { detail: Schemas["DeviceDetail"] }) {
	const d = detail.device;
	const [params, setParams] = useSearchParams();
	const asked = params.get("pane") ?? "";
	const open = useMemo(() => asked.split(",").filter(Boolean), [asked]);
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
	const usable = tools.filter((t) => t.needs.some((p) => detail.permissions.includes(p)) && t.of.some(offers));
	const [wanted, setWanted] = useState<boolean>();
	const narrow = useNarrow(768);
	const facts = wanted ?? open.length < (narrow ? 1 : 2); // panes need the room
	const every = open.map((name) => usable.find((t) => t.pane === name)).filter((t) => t !== undefined);
	const panes = narrow ? every.slice(-1) : every; // one at a time on a small screen
	const last = lastPanes().filter((name) => usable.some((t) => t.pane === name));
	useEffect(() => {
		if (open.length > 0) rememberPanes(open);
	}, [open]);
	return (
		<div className="flex h-full flex-col">
			<header className="flex flex-wrap items-center gap-x-3 gap-y-1 border-line border-b px-5 py-2.5">
				<Favourite device={d} />
				<h1 className="text-xl font-semibold">{d.name}</h1>
				{d.alias && <span className="text-faint">{d.alias}</span>}
				<Condition name={d.condition} word />
				<p className="min-w-0 text-faint sm:truncate">
					{d.organisation}, {d.site}. {d.online ? "Online" : "Silent"} for <Ago at={d.since} suffix="" />
				</p>
				{!d.online && usable.some((t) => t.pane === "people") && (
					<div className="ml-auto">
						<Wake device={d} />
					</div>
				)}
			</header>
			<div role="toolbar" aria-label="Tools" className="flex flex-wrap gap-x-0.5 border-line border-b px-4 py-0.5">
				{usable.map(({ pane, title, icon: Glyph, noticed }) => (
					<button
						key={pane}
						type="button"
						aria-pressed={open.includes(pane)}
						disabled={!d.online && !open.includes(pane)}
						title={
							d.online
								? (noticed ?? "The person at the device does not notice this tool.")
								: "The device is not connected."
						}
						onClick={() => turn(pane)}
						className={`button-quiet ${open.includes(pane) ? "bg-heather-tint font-medium" : ""}`}
					>
						<Glyph className="size-4" aria-hidden="true" />
						{title}
					</button>
				))}
				{open.length === 0 && last.length > 1 && d.online && (
					<button
						type="button"
						className="button-quiet ml-auto"
						title="The tools that were open side by side last, on this or another device"
						onClick={() => setParams({ pane: last.join(",") }, { replace: true })}
					>
						As last: {last.map((name) => usable.find((t) => t.pane === name)?.title).join(", ")}
					</button>
				)}
				{open.length > 0 && (
					<button
						type="button"
						aria-pressed={facts}
						className={`button-quiet ml-auto ${facts ? "bg-heather-tint font-medium" : ""}`}
						onClick={() => setWanted(!facts)}
					>
						Facts
					</button>
				)}
			</div>
			<div className={`flex min-h-0 flex-1 ${panes.length === 0 ? "max-md:flex-col max-md:overflow-auto" : ""}`}>
				{facts && <Facts detail={detail} vitals={latest} />}
				<div className="flex min-w-0 flex-1 flex-col">
					{panes.length === 0 && <Glance detail={detail} people={latest?.people} />}
					{panes.length === 0 && <Vitals device={d} live={live} findings={detail.findings} />}
					{panes.length === 0 && <Story detail={detail} tools={usable.length} />}
					<Arrangement panes={panes} device={d} onClose={turn} />
				</div>
			</div>
		</div>
	);
}
