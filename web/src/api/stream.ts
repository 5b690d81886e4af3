type Handlers = Record<string, (data: string) => void>;

/** How long a page may be out of sight before its stream is given up, in milliseconds. */
const patience = 5000;

/**
 * Listens to server-sent events while the page is in sight. A browser has few connections to one
 * service over plain HTTP, shared by all its tabs: one that nobody looks at must not hold any.
 * onState is told when events come and when they do not; after a gap, what was shown may be old.
 */
export function listen(url: string, handlers: Handlers, onState: (live: boolean) => void = () => {}) {
	let events: EventSource | undefined;
	let hiding: ReturnType<typeof setTimeout> | undefined;

	const open = () => {
		if (events) return;
		events = new EventSource(url);
		events.onopen = () => onState(true);
		events.onerror = () => onState(false);
		for (const [name, handle] of Object.entries(handlers)) {
			events.addEventListener(name, (e) => handle((e as MessageEvent<string>).data));
		}
	};
	const close = () => {
		events?.close();
		events = undefined;
	};
	const look = () => {
		clearTimeout(hiding);
		if (document.visibilityState === "visible") open();
		else hiding = setTimeout(close, patience);
	};

	look();
	document.addEventListener("visibilitychange", look);
	window.addEventListener("pagehide", close);
	window.addEventListener("pageshow", look);
	return () => {
		clearTimeout(hiding);
		document.removeEventListener("visibilitychange", look);
		window.removeEventListener("pagehide", close);
		window.removeEventListener("pageshow", look);
		close();
	};
}
