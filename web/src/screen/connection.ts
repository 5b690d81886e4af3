import { answer, api, ProblemError, type Schemas } from "../api/client";
import type { Order, Report } from "./worker";

export type State =
	| { is: "asking" } // the person at the device, perhaps
	| { is: "connecting" }
	| { is: "open" }
	| { is: "away"; since: number; why: string }
	| { is: "ended"; why: string; error?: unknown };

/** How long a screen whose connection was lost is tried for, and how often. */
const patience = 10 * 60_000;
const again = 1500;

/**
 * One desktop as it is looked at: a canvas that a worker draws on, what is told of the desktop, and
 * the way back. A connection that is lost is made again, until it is closed or refused.
 */
export class Connection {
	readonly canvas = document.createElement("canvas");
	onState: (s: State) => void = () => {};
	onEvent: (e: Schemas["ScreenEvent"]) => void = () => {};
	onSize: (s: { width: number; height: number }) => void = () => {};
	onDrawn: ((d: { number: number; bytes: number; at: number }) => void) | undefined;
	private worker = new Worker(new URL("./worker.ts", import.meta.url), { type: "module" });
	private state: State = { is: "asking" };
	private timer: ReturnType<typeof setTimeout> | undefined;
	private closed = false;
	private options: Schemas["ScreenOptions"] = {};
	private mode: string | undefined;
	private held = new Set<string>(); // keys and buttons that are down
	private beat: ReturnType<typeof setInterval> | undefined;
	private pictures = new Map<number, (png: Blob) => void>();
	private quit = new AbortController();
	private inSight = true;
	/** The session on record, once it has begun. */
	session: string | undefined;

	constructor(
		readonly device: string,
		private desktop?: string,
	) {
		const surface = this.canvas.transferControlToOffscreen();
		this.worker.postMessage({ canvas: surface } satisfies Order, [surface]);
		this.worker.onmessage = ({ data }: MessageEvent<Report>) => this.take(data);
		this.worker.onerror = () => this.set({ is: "ended", why: "The screen's decoder could not be loaded." });
		document.addEventListener("visibilitychange", this.seen);
		window.addEventListener("pagehide", this.leave);
		this.open();
	}

	/** Asks for a session, which may need the consent of the person there, and then connects. */
	private async open() {
		if (this.closed) return;
		if (this.state.is !== "away") this.set({ is: "asking" });
		try {
			const begun = await answer(
				api.POST("/devices/{id}/sessions", {
					params: { path: { id: this.device } },
					body: { tool: "screen", desktop: this.desktop },
					signal: this.quit.signal,
				}),
			);
			this.session = begun.id;
		} catch (error) {
			if (this.closed) return;
			const status = error instanceof ProblemError ? error.problem.status : 0;
			if (status === 410) this.desktop = undefined; // it has ended: after a restart there may be another
			if (this.state.is === "away" && status !== 403 && status !== 404) return this.later();
			return this.set({ is: "ended", why: error instanceof Error ? error.message : String(error), error });
		}
		if (this.closed) return;
		if (this.state.is !== "away") this.set({ is: "connecting" });
		const query = new URLSearchParams();
		if (this.desktop) query.set("desktop", this.desktop);
		if (this.mode) query.set("mode", this.mode);
		const at = new URL(`/api/v1/devices/${this.device}/screen?${query}`, location.href);
		at.protocol = at.protocol.replace("http", "ws");
		this.order({ connect: at.href });
	}

	private later() {
		if (this.state.is === "away" && Date.now() - this.state.since > patience)
			return this.set({ is: "ended", why: "The device did not come back within ten minutes." });
		this.timer = setTimeout(() => this.open(), again);
	}

	private take(r: Report) {
		if ("open" in r) {
			this.set({ is: "open" });
			this.seen();
		} else if ("closed" in r) {
			if (this.closed || this.state.is === "ended") return;
			this.held.clear();
			if (this.state.is !== "away")
				this.set({ is: "away", since: Date.now(), why: "The connection was lost; it is made again." });
			this.later();
		} else if ("event" in r) {
			if (r.event.end) this.set({ is: "ended", why: r.event.end });
			if (r.event.begin) this.desktop = r.event.begin.desktop.id; // to which it comes back
			this.onEvent(r.event);
		} else if ("size" in r) this.onSize(r.size);
		else if ("drawn" in r) this.onDrawn?.(r.drawn);
		else if ("picture" in r) {
			this.pictures.get(r.picture.number)?.(r.picture.png);
			this.pictures.delete(r.picture.number);
		}
	}

	private set(s: State) {
		this.state = s;
		this.onState(s);
	}

	private order(o: Order) {
		this.worker.postMessage(o);
	}

	send(input: Schemas["ScreenInput"]) {
		if (this.state.is === "open") this.order({ input });
	}

	/** Presses or lets go of a key. While anything is down the device hears of us twice a second. */
	key(k: Schemas["ScreenKey"]) {
		this.hold(`key ${k.code || k.key}`, k.down);
		this.send({ key: k });
	}

	point(p: Schemas["ScreenPointer"]) {
		this.hold("buttons", p.buttons !== 0);
		this.send({ pointer: p });
	}

	private hold(what: string, down: boolean) {
		if (down) this.held.add(what);
		else this.held.delete(what);
		if (this.held.size && !this.beat) this.beat = setInterval(() => this.send({}), 500);
		if (!this.held.size) {
			clearInterval(this.beat);
			this.beat = undefined;
		}
	}

	/** Lets go of all that is down. */
	release() {
		if (this.held.size) this.send({ release: true });
		this.held.clear();
		clearInterval(this.beat);
		this.beat = undefined;
	}

	/** Changes what is to be seen. */
	want(options: Schemas["ScreenOptions"]) {
		this.options = { ...this.options, ...options };
		this.seen();
	}

	takePart(mode: string) {
		this.mode = mode;
		this.send({ mode });
	}

	/** Goes to another desktop of the device, or begins anew after the end with the same. */
	restart(desktop = this.desktop) {
		this.desktop = desktop;
		clearTimeout(this.timer);
		this.order({ leave: true });
		this.set({ is: "connecting" });
		this.open();
	}

	/** A PNG of what is shown. */
	picture(): Promise<Blob> {
		const number = Math.random();
		return new Promise((resolve) => {
			this.pictures.set(number, resolve);
			this.order({ picture: number });
		});
	}

	watch(on: boolean) {
		this.order({ watch: on });
	}

	/** Nothing is sent to a page that nobody sees. */
	private seen = () => this.send({ options: { ...this.options, pause: document.hidden || !this.inSight } });

	/** Tells whether it stands where it can be seen, and how many of this screen's pixels wide it is there. */
	stands(inSight: boolean, width: number) {
		if (inSight === this.inSight && width === (this.options.width ?? 0)) return;
		this.inSight = inSight;
		this.want({ width });
	}

	private leave = () => this.order({ leave: true });

	close() {
		this.closed = true;
		clearTimeout(this.timer);
		this.release();
		this.quit.abort();
		document.removeEventListener("visibilitychange", this.seen);
		window.removeEventListener("pagehide", this.leave);
		this.leave();
		// The worker says goodbye before it goes.
		setTimeout(() => this.worker.terminate(), 500);
	}
}
