import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { colour, useDark } from "../parts/theme";

/** Times in seconds, then a line of values for each series; null where there is no reading. */
export type Lines = [number[], ...(number | null)[][]];

const height = 84;

/**
 * A small chart of readings over time. Gaps stay gaps; the pointer reads values off, and dragging
 * looks closer. With a band, the second and third lines are the least and greatest of the first;
 * otherwise each is a reading of its own.
 */
export function Chart({
	lines,
	most,
	write,
	from,
	to,
	band,
	onZoom,
}: {
	lines: Lines;
	most?: number;
	write: (v: number) => string;
	from: number;
	to: number;
	band: boolean;
	onZoom?: (from: number, to: number) => void;
}) {
	const box = useRef<HTMLDivElement>(null);
	const plot = useRef<uPlot>(undefined);
	const dark = useDark();
	const latest = useRef({ lines, from, to, most, write, onZoom });
	latest.current = { lines, from, to, most, write, onZoom };
	const series = lines.length - 1;

	// The theme is read when a chart is made, so another theme needs another chart.
	useEffect(() => {
		const place = box.current;
		if (!place) return;
		const faint = colour("faint");
		const grid = { stroke: colour("line"), width: 1 };
		const font = "11px 'Source Sans 3 Variable', sans-serif";
		const chart = new uPlot(
			{
				width: place.clientWidth,
				height,
				legend: { show: false },
				cursor: {
					y: false,
					points: { size: 5 },
					drag: { x: true, y: false, setScale: false },
					sync: { key: "vitals" },
				},
				padding: [8, 14, 0, 0],
				scales: {
					x: { range: () => [latest.current.from, latest.current.to] },
					y: { range: (_, _least, greatest) => [0, latest.current.most ?? nice(Math.max(greatest * 1.15, 1))] },
				},
				axes: [
					{
						stroke: faint,
						font,
						size: 18,
						gap: 2,
						grid: { show: false },
						ticks: { show: false },
						space: 56,
						values: (u, at) => at.map(when((u.scales.x?.max ?? 0) - (u.scales.x?.min ?? 0))),
					},
					{
						stroke: faint,
						font,
						size: 44,
						gap: 4,
						grid,
						ticks: { show: false },
						splits: (u) => [0, (u.scales.y?.max ?? 0) / 2, u.scales.y?.max ?? 0],
						values: (_, vs) => vs.map((v) => latest.current.write(v)),
					},
				],
				hooks: {
					setSelect: [
						(u) => {
							const begin = u.posToVal(u.select.left, "x");
							const end = u.posToVal(u.select.left + u.select.width, "x");
							if (u.select.width > 4) {
								u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
								latest.current.onZoom?.(begin, end);
							}
						},
					],
				},
				bands: band ? [{ series: [3, 2], fill: colour("chart-fill") }] : undefined,
				series: [
					{},
					...Array.from({ length: series }, (_, i) => ({
						stroke: i === 0 ? colour("chart") : band ? "transparent" : colour("mist"),
						fill: i === 0 && !band ? colour("chart-fill") : undefined,
						width: i > 0 && band ? 0 : 1.4,
						points: { show: false },
						spanGaps: false,
					})),
				],
			},
			latest.current.lines as uPlot.AlignedData,
			place,
		);
		plot.current = chart;
		const watch = new ResizeObserver(() => chart.setSize({ width: place.clientWidth, height }));
		watch.observe(place);
		return () => {
			watch.disconnect();
			chart.destroy();
			plot.current = undefined;
		};
	}, [dark, series, band]);

	useEffect(() => {
		plot.current?.setData(lines as uPlot.AlignedData);
	}, [lines]);

	return <div ref={box} className="w-full" style={{ height }} />;
}

/** Writes times of an axis that spans so many seconds: the day where they span days. */
function when(seconds: number) {
	const write = new Intl.DateTimeFormat(
		undefined,
		seconds > 100 * 86_400
			? { month: "short", year: "2-digit" }
			: seconds > 8 * 86_400
				? { day: "numeric", month: "short" }
				: seconds > 2 * 86_400
					? { weekday: "short" }
					: { hour: "2-digit", minute: "2-digit", hour12: false },
	);
	return (at: number) => write.format(new Date(at * 1000));
}

/** Rounds a number on an axis to two digits. */
function nice(v: number) {
	if (v <= 0) return 0;
	const unit = 10 ** (Math.floor(Math.log10(v)) - 1);
	return Math.round(v / unit) * unit;
}
