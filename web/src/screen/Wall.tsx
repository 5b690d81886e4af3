import { useEffect, useMemo, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { asProblem, type Device } from "../api/client";
import { useDevices } from "../fleet/devices";
import { Condition } from "../parts/Condition";
import { SelectField } from "../parts/fields";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { percent } from "../parts/units";

const paces = [2, 5, 15, 60];
const sizeKey = "moorwatch wall size";

/** Many screens at once, small: those of a group, or of a site. */
export default function Wall() {
	const [params, setParams] = useSearchParams();
	const devices = useDevices();
	const [pace, setPace] = useState(5);
	const [size, setSize] = useState(() => Number(localStorage.getItem(sizeKey)) || 280);
	const place = params.get("of") ?? "";
	const screens = useMemo(
		() =>
			[...(devices.data?.values() ?? [])]
				.filter((d) => d.capabilities.includes("screen"))
				.sort((a, b) => a.name.localeCompare(b.name, undefined, { numeric: true })),
		[devices.data],
	);
	const places = useMemo(() => {
		const [groups, sites] = [new Set<string>(), new Set<string>()];
		for (const d of screens) {
			sites.add(`${d.organisation}, ${d.site}`);
			for (const g of d.groups ?? []) groups.add(g);
		}
		return { groups: [...groups].sort(), sites: [...sites].sort() };
	}, [screens]);
	const chosen = place || (places.sites[0] ? `site ${places.sites[0]}` : "");
	const shown = screens.filter(
		(d) =>
			chosen === "all" ||
			`site ${d.organisation}, ${d.site}` === chosen ||
			d.groups?.some((g) => `group ${g}` === chosen),
	);
	const online = shown.filter((d) => d.online);
	if (devices.isPending) return <Waiting what="the devices" />;
	if (devices.isError)
		return (
			<div className="p-6">
				<ProblemAlert error={devices.error} retry={() => devices.refetch()} />
			</div>
		);
	return (
		<div className="px-5 py-4">
			<div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
				<h1 className="text-xl font-semibold">Wall</h1>
				<SelectField
					label="Whose screens"
					hidden
					className="w-72 py-1"
					value={chosen}
					onChange={(v) => setParams({ of: v })}
				>
					{places.groups.length > 0 && (
						<optgroup label="Groups">
							{places.groups.map((g) => (
								<option key={g} value={`group ${g}`}>
									{g}
								</option>
							))}
						</optgroup>
					)}
					<optgroup label="Sites">
						{places.sites.map((s) => (
							<option key={s} value={`site ${s}`}>
								{s}
							</option>
						))}
					</optgroup>
					<option value="all">every device with a screen</option>
				</SelectField>
				<span className="text-faint">
					{online.length} of {shown.length} online
				</span>
				<label className="ml-auto flex items-center gap-2 text-faint">
					Every
					<select className="field py-1" value={pace} onChange={(e) => setPace(Number(e.target.value))}>
						{paces.map((p) => (
							<option key={p} value={p}>
								{p} s
							</option>
						))}
					</select>
				</label>
				<label className="flex items-center gap-2 text-faint">
					Size
					<input
						type="range"
						className="w-36 accent-heather"
						min={140}
						max={640}
						step={20}
						value={size}
						onChange={(e) => {
							setSize(Number(e.target.value));
							localStorage.setItem(sizeKey, e.target.value);
						}}
					/>
				</label>
			</div>
			{shown.length === 0 && (
				<Empty title="There is no screen here.">
					Choose another group or site: only devices with a desktop are shown.
				</Empty>
			)}
			<ul
				className="grid gap-3"
				style={{ gridTemplateColumns: `repeat(auto-fill, minmax(min(${size}px, 100%), 1fr))` }}
			>
				{shown.map((d) => (
					<Tile key={d.id} device={d} pace={pace} width={Math.min(1024, Math.round(size * window.devicePixelRatio))} />
				))}
			</ul>
		</div>
	);
}

/** One screen on the wall. Its picture is taken while it is in sight, and sent only if it has changed. */
function Tile({ device, pace, width }: { device: Device; pace: number; width: number }) {
	const canvas = useRef<HTMLCanvasElement>(null);
	const box = useRef<HTMLLIElement>(null);
	const [problem, setProblem] = useState("");
	const [seen, setSeen] = useState(false);
	const [drawn, setDrawn] = useState(false);
	const { id, online } = device;

	useEffect(() => {
		const watch = new IntersectionObserver(([e]) => setSeen(e?.isIntersecting ?? false), { rootMargin: "100px" });
		if (box.current) watch.observe(box.current);
		return () => watch.disconnect();
	}, []);

	useEffect(() => {
		if (!seen || !online) return;
		const quit = new AbortController();
		let timer: ReturnType<typeof setTimeout>;
		let tag = "";
		const take = async () => {
			if (!document.hidden) {
				try {
					// The generated client reads no pictures. The browser's own store would hide what is unchanged.
					const answer = await fetch(`/api/v1/devices/${id}/screen/picture?width=${width}`, {
						signal: quit.signal,
						headers: tag ? { "If-None-Match": tag } : {},
						cache: "no-store",
					});
					if (answer.status === 200) {
						tag = answer.headers.get("ETag") ?? "";
						const bitmap = await createImageBitmap(await answer.blob());
						const to = canvas.current;
						if (to) {
							to.width = bitmap.width;
							to.height = bitmap.height;
							to.getContext("2d")?.drawImage(bitmap, 0, 0);
						}
						bitmap.close();
						setDrawn(true);
						setProblem("");
					} else if (answer.status !== 304) {
						const problem = asProblem(await answer.json().catch(() => null), answer.status);
						setProblem(problem.detail ?? problem.title);
					} else setProblem("");
				} catch {
					if (!quit.signal.aborted) setProblem("The service cannot be reached.");
				}
			}
			if (!quit.signal.aborted) timer = setTimeout(take, pace * 1000);
		};
		timer = setTimeout(take, Math.random() * 300); // not all at once
		return () => {
			quit.abort();
			clearTimeout(timer);
		};
	}, [id, online, seen, pace, width]);

	return (
		<li ref={box} className="min-w-0 overflow-hidden rounded-md border border-line bg-panel">
			<Link to={`/devices/${id}?pane=screen`} className="block" aria-label={`Open the screen of ${device.name}`}>
				<span className="relative grid aspect-[8/5] place-items-center bg-black/85">
					<canvas
						ref={canvas}
						width={1}
						height={1}
						className={`absolute size-full object-contain ${online ? "" : "opacity-30 grayscale"}`}
					/>
					{(!online || problem || !drawn) && (
						<span className="relative m-2 rounded bg-black/70 px-2 py-1 text-center text-sm text-white">
							{online ? problem || "…" : "silent"}
						</span>
					)}
				</span>
			</Link>
			<p className="flex items-center gap-2 px-2 py-1 text-sm">
				<Condition name={device.condition} />
				<span className="truncate font-medium">{device.name}</span>
				<span className="truncate text-faint">{device.people[0]}</span>
				{online && (
					<span className="ml-auto whitespace-nowrap text-faint tabular-nums" title="Processor and memory">
						{percent(device.cpu)} · {percent(device.memory)}
					</span>
				)}
			</p>
		</li>
	);
}
