import { useEffect, useState } from "react";
import type { Device, Schemas } from "../api/client";
import { TextField } from "../parts/fields";
import { ProblemAlert } from "../parts/ProblemAlert";
import { StayBox, Tail, useTail } from "../tools/Tail";
import { useLines } from "../tools/useLines";

const most = 20_000; // lines on the page; older ones are dropped

/** Follows a growing file, with a filter. */
export function Follow({ device, path, onClose }: { device: Device; path: string; onClose: () => void }) {
	const [typed, setTyped] = useState("");
	const [filter, setFilter] = useState("");
	useEffect(() => {
		const timer = setTimeout(() => setFilter(typed), 400);
		return () => clearTimeout(timer);
	}, [typed]);
	return (
		<div className="flex h-full flex-col">
			<div className="flex items-center gap-2 border-line border-b px-3 py-1">
				<span className="truncate font-mono text-sm" title={path}>
					{path}
				</span>
				<TextField
					label="Filter lines"
					hidden
					className="ml-auto max-w-48 py-0.5"
					type="search"
					placeholder="Only lines that match"
					value={typed}
					onChange={setTyped}
				/>
				<button type="button" className="button-quiet" onClick={onClose}>
					Close
				</button>
			</div>
			<Lines key={filter} device={device} body={{ path, back: 500, filter: filter || undefined }} />
		</div>
	);
}

function Lines({ device, body }: { device: Device; body: Schemas["Follow"] }) {
	const { items, push } = useTail<{ text: string; note?: boolean }>(most);
	const [skipped, setSkipped] = useState(0);
	const [stay, setStay] = useState(true);
	const stream = useLines<Schemas["Lines"]>(`/devices/${device.id}/files/follow`, body, (l) => {
		push([...(l.note ? [{ text: l.note, note: true }] : []), ...(l.lines ?? []).map((text) => ({ text }))]);
		if (l.skipped) setSkipped((n) => n + (l.skipped ?? 0));
	});
	return (
		<>
			<div className="flex items-center gap-2 border-line border-b px-3 py-0.5 text-faint text-sm">
				<span role="status" className="tabular-nums">
					{items.length} lines{skipped > 0 && `, ${skipped} left out as they came too fast`}
				</span>
				<StayBox stay={stay} setStay={setStay} />
			</div>
			{stream.error !== undefined && <ProblemAlert error={stream.error} retry={stream.retry} />}
			<Tail label="Lines" items={items} stay={stay} setStay={setStay} className="whitespace-pre-wrap break-words">
				{(l) => (l.note ? <span className="text-faint">— {l.text}</span> : l.text || " ")}
			</Tail>
		</>
	);
}
