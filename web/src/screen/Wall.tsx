import { useEffect, useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { asProblem, type Device } from "../api/client";
import { useBrought } from "../fleet/chosen";
import { Picker } from "../fleet/Picker";
import { useChosen } from "../fleet/useChosen";
import { Condition } from "../parts/Condition";
import { compare } from "../parts/columns";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { percent } from "../parts/units";

const paces = [2, 5, 15, 60];
const sizeKey = "moorwatch wall size";

const most = 200; // tiles; their pictures are taken while they are in sight alone

/** Many screens at once, small: those of the devices that are picked. */
export default function Wall() {
	const [choice, setChoice] = useState(useBrought());
	const found = useChosen(choice);
	const [pace, setPace] = useState(5);
	const [size, setSize] = useState(() => Number(localStorage.getItem(sizeKey)) || 280);
	const screens = useMemo(
		() =>
			found.devices
				.filter((d) => d.capabilities.includes("screen"))
				.sort((a, b) => Number(b.online) - Number(a.online) || compare(a.name, b.name)),
		[found.devices],
	);
	const shown = screens.slice(0, most);
	const online = screens.filter((d) => d.online);
	if (found.pending) return <Waiting what="the devices" />;
	if (found.error)
		return (
			<div className="p-6">
				<ProblemAlert error={found.error} retry={found.refetch} />
			</div>
		);
	return (
		<div className="px-5 py-4">
			<div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
				<h1 className="text-xl font-semibold">Wall</h1>
				<Picker choice={choice} onChange={setChoice} label="Whose screens" className="max-w-xl flex-1 basis-64" />
				<span className="text-faint">
					{online.length} of {screens.length} online
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
			{screens.length > most && (
				<p className="mb-2 text-faint">The first {most} are shown: pick a site or a group to see others.</p>
			)}
			{shown.length === 0 && (
				<Empty title="There is no screen here.">Pick others: only devices with a desktop are shown.</Empty>
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
			<Link
				to={`/devices/${id}?pane=screen`}
				className="block"
				aria-label={`Open the screen of ${device.name}${online ? problem && `: ${problem}` : ": silent"}`}
			>
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
