import { useEffect, useRef, useState } from "react";
import { Ago } from "../parts/time";
import type { Connection } from "./connection";
import type { Seen } from "./useScreen";

/** What the people at a screen say to each other. */
export function Notes({ connection, seen, onClose }: { connection: Connection; seen: Seen; onClose: () => void }) {
	const [text, setText] = useState("");
	const end = useRef<HTMLDivElement>(null);
	const count = seen.notes.length;
	useEffect(() => {
		if (count) end.current?.scrollIntoView({ block: "end" });
	}, [count]);
	return (
		<aside aria-label="Talk" className="flex w-64 flex-col border-line border-l bg-page">
			<div className="min-h-0 flex-1 space-y-2 overflow-auto p-3">
				{count === 0 && (
					<p className="text-faint">What is written here is read by everyone who looks at this screen.</p>
				)}
				{seen.notes.map((n) => (
					<p key={`${n.at} ${n.from} ${n.text}`}>
						<span className="font-medium">{n.name}</span>{" "}
						<span className="text-faint text-sm">
							<Ago at={n.at} />
						</span>
						<br />
						{n.text}
					</p>
				))}
				<div ref={end} />
			</div>
			<form
				className="flex gap-1.5 border-line border-t p-2"
				onSubmit={(e) => {
					e.preventDefault();
					if (text.trim()) connection.send({ note: text.trim() });
					setText("");
				}}
			>
				<input
					className="field min-w-0 flex-1 py-1"
					aria-label="Say"
					value={text}
					maxLength={2000}
					onChange={(e) => setText(e.target.value)}
					onKeyDown={(e) => e.key === "Escape" && onClose()}
				/>
				<button type="submit" className="button">
					Say
				</button>
			</form>
		</aside>
	);
}
