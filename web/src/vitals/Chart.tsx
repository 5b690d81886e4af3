import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { colour, useDark } from "../theme";

/** Times in seconds, then a line of values for each series; null where there is no reading. */
export type Lines = [number[], ...(number | null)[][]];

const height = 84;

/** A small chart of one or two readings over time. Gaps stay gaps; the pointer reads values off. */
export function Chart({
	lines,
	most,
	write,
	from,
	to,
	names,
}: {
	lines: Lines;
	most?: number;
	write: (v: number) => string;
	from: number;
	to: number;
	names: string[];
}) {
	const box = useRef<HTMLDivElement>(null);
	const plot = useRef<uPlot>(undefined);
	const dark = useDark();
	const latest = useRef({ lines, from, to, most, write });
	latest.current = { lines, from, to, most, write };

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
				cursor: { y: false, points: { size: 5 }, drag: { x: false, y: false }, sync: { key: "vitals" } },
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
				series: [
					{},
					...names.map((_, i) => ({
						stroke: i === 0 ? colour("chart") : colour("mist"),
						fill: i === 0 ? colour("chart-fill") : undefined,
						width: 1.4,
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
	}, [dark, names.length]);

	useEffect(() => {
		plot.current?.setData(lines as uPlot.AlignedData);
	}, [lines]);

	return <div ref={box} className="w-full" style={{ height }} />;
}

/** Writes times of an axis that spans so many seconds: the day where they span days. */
function when(seconds: number) {
	const write = new Intl.DateTimeFormat(
		undefined,
		seconds > 2 * 86_400 ? { weekday: "short" } : { hour: "2-digit", minute: "2-digit", hour12: false },
	);
	return (at: number) => write.format(new Date(at * 1000));
}

/** Rounds a number on an axis to two digits. */
function nice(v: number) {
	if (v <= 0) return 0;
	const unit = 10 ** (Math.floor(Math.log10(v)) - 1);
	return Math.round(v / unit) * unit;
}
