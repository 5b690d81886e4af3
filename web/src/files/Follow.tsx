import { useEffect, useRef, useState } from "react";
import type { Device, Schemas } from "../api/client";
import { Trouble } from "../parts/Trouble";
import { useLines } from "../session/useLines";

const most = 5000; // lines on the page

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
				<input
					type="search"
					className="field ml-auto max-w-48 py-0.5"
					aria-label="Filter lines"
					placeholder="Only lines that match"
					value={typed}
					onChange={(e) => setTyped(e.target.value)}
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
	const [text, setText] = useState<string[]>([]);
	const [skipped, setSkipped] = useState(0);
	const end = useRef<HTMLDivElement>(null);
	const stream = useLines<Schemas["Lines"]>(`/devices/${device.id}/files/follow`, body, (l) => {
		const more = [...(l.note ? [`— ${l.note}`] : []), ...(l.lines ?? [])];
		if (more.length) setText((old) => [...old, ...more].slice(-most));
		if (l.skipped) setSkipped((n) => n + (l.skipped ?? 0));
	});
	useEffect(() => {
		if (text.length > 0) end.current?.scrollIntoView({ block: "end" });
	}, [text]);
	return (
		<>
			{stream.error !== undefined && <Trouble error={stream.error} retry={stream.retry} />}
			{skipped > 0 && <p className="px-3 text-faint text-sm">{skipped} lines were left out, as they came too fast</p>}
			{/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reachable by keys */}
			<div className="min-h-0 flex-1 overflow-auto px-3 py-1" role="log" tabIndex={0} aria-label="Lines">
				<pre className="font-mono text-[0.8rem] whitespace-pre-wrap break-words">{text.join("\n")}</pre>
				<div ref={end} />
			</div>
		</>
	);
}
