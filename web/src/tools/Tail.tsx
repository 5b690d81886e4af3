import { useVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { CheckField } from "../parts/fields";

/** What is numbered as it comes, so that the page knows it again. */
export type Numbered<T> = T & { n: number };

/**
 * The last of what comes, at most so many. A log may bring ten thousand a second: they are put on the
 * page together, a few times a second.
 */
export function useTail<T extends object>(most: number) {
	const [items, setItems] = useState<Numbered<T>[]>([]);
	const waiting = useRef<Numbered<T>[]>([]);
	const number = useRef(0);
	const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
	useEffect(() => () => clearTimeout(timer.current), []);
	const push = (more: T[]) => {
		for (const t of more) waiting.current.push({ ...t, n: number.current++ });
		timer.current ??= setTimeout(() => {
			timer.current = undefined;
			const fresh = waiting.current.slice(-most);
			waiting.current = [];
			setItems((old) => (fresh.length >= most ? fresh : [...old.slice(fresh.length - most), ...fresh]));
		}, 80);
	};
	return { items, push };
}

/** A list that grows at its end and is looked at there, until somebody scrolls up. */
export function Tail<T>({
	label,
	items,
	stay,
	setStay,
	className,
	children,
}: {
	label: string;
	items: Numbered<T>[];
	stay: boolean;
	setStay: (stay: boolean) => void;
	className: string; // of a line
	children: (item: T) => ReactNode;
}) {
	const scroll = useRef<HTMLDivElement>(null);
	const virtual = useVirtualizer({
		count: items.length,
		getScrollElement: () => scroll.current,
		estimateSize: () => 21,
		overscan: 20,
	});
	useEffect(() => {
		if (stay && items.length > 0) virtual.scrollToIndex(items.length - 1, { align: "end" });
	}, [items, stay]);
	return (
		<div
			ref={scroll}
			className="@container min-h-0 flex-1 overflow-auto"
			role="log"
			aria-label={label}
			aria-live="off"
			// biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reachable by keys
			tabIndex={0}
			onWheel={(e) => {
				if (e.deltaY < 0) setStay(false);
			}}
		>
			<div className="relative font-mono text-[0.8rem]" style={{ height: virtual.getTotalSize() }}>
				{virtual.getVirtualItems().map((at) => {
					const item = items[at.index];
					if (!item) return null;
					return (
						<div
							key={item.n}
							ref={virtual.measureElement}
							data-index={at.index}
							className={`absolute inset-x-0 px-3 ${className}`}
							style={{ transform: `translateY(${at.start}px)` }}
						>
							{children(item)}
						</div>
					);
				})}
			</div>
		</div>
	);
}

/** Whether the end is stayed at. */
export function StayBox({ stay, setStay }: { stay: boolean; setStay: (stay: boolean) => void }) {
	return (
		<CheckField className="ml-auto flex items-center gap-1.5 text-sm" checked={stay} onChange={setStay}>
			Stay at the end
		</CheckField>
	);
}
