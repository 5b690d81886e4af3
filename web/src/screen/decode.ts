/**
 * Draws a desktop from the updates that a device sends. Their form is described, and written, by the
 * package core/screen of the service; what is drawn is its picture bit for bit, but for photographs
 * that are rough until they are still.
 */

// How the steps of an update are compressed.
const alone = 1; // by themselves
const ongoing = 2; // as the continuation of those before that were so
const fresh = 4; // and that stream begins here
const whole = 8; // nothing before is needed: all is black first
const streamEnd = new Uint8Array([0, 0, 255, 255]);
const most = 16384; // pixels, of a side

type Surface = OffscreenCanvasRenderingContext2D;

type Rect = { x: number; y: number; w: number; h: number };

/** Bytes that are read from the front. Reading past the end throws. */
export class Reader {
	at = 0;
	constructor(readonly b: Uint8Array) {}

	get left() {
		return this.b.length - this.at;
	}

	byte() {
		const v = this.b[this.at++];
		if (v === undefined) throw new Error("the update ends too soon");
		return v;
	}

	take(n: number) {
		if (n > this.left) throw new Error("the update ends too soon");
		this.at += n;
		return this.b.subarray(this.at - n, this.at);
	}

	/** A number of variable length, as Go's encoding/binary writes it. */
	number() {
		let [v, factor] = [0, 1];
		for (;;) {
			const b = this.byte();
			v += (b & 127) * factor;
			if (b < 128) return v;
			factor *= 128;
			if (factor > 2 ** 49) throw new Error("a number is too large");
		}
	}

	signed() {
		const v = this.number();
		return v % 2 ? -(v + 1) / 2 : v / 2;
	}

	rect(canvas: OffscreenCanvas): Rect {
		const r = { x: this.number(), y: this.number(), w: this.number(), h: this.number() };
		if (!r.w || !r.h || r.x + r.w > canvas.width || r.y + r.h > canvas.height)
			throw new Error("a rectangle lies outside the picture");
		return r;
	}

	/** A colour as ImageData holds it: opaque, red in the lowest byte. */
	colour() {
		const [r, g, b] = this.take(3);
		return (0xff000000 | ((b ?? 0) << 16) | ((g ?? 0) << 8) | (r ?? 0)) >>> 0;
	}
}

/** The most that one update may be when it is plain, in bytes: every point of the largest picture, and steps beside it. */
const mostPlain = 6 * most * most;

/** What a device sends is not trusted: a few bytes may be packed so that they fill the memory. */
async function inflate(b: Uint8Array): Promise<Uint8Array> {
	const from = new Blob([b as BlobPart]).stream().pipeThrough(new DecompressionStream("deflate-raw")).getReader();
	const parts: Uint8Array[] = [];
	let length = 0;
	for (;;) {
		const { value, done } = await from.read();
		if (done) break;
		length += value.length;
		if (length > mostPlain) {
			from.cancel().catch(() => {});
			throw new Error("the steps are too long");
		}
		parts.push(value);
	}
	const out = new Uint8Array(length);
	let at = 0;
	for (const part of parts) {
		out.set(part, at);
		at += part.length;
	}
	return out;
}

/** A compressed stream of which a part comes with each update. */
class Stream {
	private to: WritableStreamDefaultWriter<BufferSource>;
	private from: ReadableStreamDefaultReader<Uint8Array>;

	constructor() {
		const through = new DecompressionStream("deflate-raw");
		this.to = through.writable.getWriter();
		this.from = through.readable.getReader() as ReadableStreamDefaultReader<Uint8Array>;
		this.to.closed.catch(() => {}); // what is wrong is told by reading
	}

	/** Takes a part, and returns what it is when plain. */
	async part(b: Uint8Array, plain: number): Promise<Uint8Array> {
		const whole = new Uint8Array(b.length + streamEnd.length);
		whole.set(b);
		whole.set(streamEnd, b.length);
		// Once it is taken, all that it holds can be read: what is not there then does not come.
		const taken = this.to.write(whole).then(
			() => undefined,
			() => undefined,
		);
		const out = new Uint8Array(plain);
		for (let at = 0; at < plain; ) {
			const value = (await Promise.race([this.from.read(), taken]))?.value;
			if (!value || at + value.length > plain) throw new Error("the steps are not compressed as they should be");
			out.set(value, at);
			at += value.length;
		}
		return out;
	}
}

type Photo = { r: Rect; bitmap: ImageBitmap };

async function photos(in_: Reader, canvas: OffscreenCanvas): Promise<Photo[]> {
	const all: Promise<Photo>[] = [];
	while (in_.left > 0) {
		const r = in_.rect(canvas);
		const jpeg = new Blob([in_.take(in_.number()) as BlobPart], { type: "image/jpeg" });
		all.push(createImageBitmap(jpeg, { colorSpaceConversion: "none" }).then((bitmap) => ({ r, bitmap })));
	}
	return Promise.all(all);
}

/** What a viewer keeps from one update to the next, beside the picture. */
export class Decoder {
	private stream: Stream | undefined;

	constructor(private surface: Surface) {}

	private unpack(in_: Reader, flags: number): Promise<Uint8Array> | Uint8Array {
		const length = in_.number();
		if (!(flags & ongoing)) return flags & alone ? inflate(in_.take(length)) : in_.take(length);
		const plain = in_.number();
		if (plain > mostPlain) throw new Error("the steps are too long");
		if (flags & fresh) this.stream = new Stream();
		if (!this.stream) throw new Error("the steps' beginning is missing");
		return this.stream.part(in_.take(length), plain);
	}

	/** Draws one update, and returns its number. An error means that what is shown cannot be relied on. */
	async draw(update: Uint8Array): Promise<number> {
		const { surface } = this;
		const in_ = new Reader(update);
		const canvas = surface.canvas;
		const number = in_.number();
		const [w, h] = [in_.number(), in_.number()];
		if (!w || !h || w > most || h > most) throw new Error("the picture has no size that can be");
		const flags = in_.byte();
		if (flags & whole || canvas.width !== w || canvas.height !== h) {
			canvas.width = w;
			canvas.height = h;
			surface.fillStyle = "black";
			surface.fillRect(0, 0, w, h);
		}
		const unpacked = this.unpack(in_, flags);
		const [plain, pictures] = await Promise.all([unpacked, photos(in_, canvas)]);
		steps(surface, new Reader(plain));
		for (const { r, bitmap } of pictures) {
			surface.drawImage(bitmap, r.x, r.y, r.w, r.h);
			bitmap.close();
		}
		return number;
	}
}

function steps(surface: Surface, in_: Reader) {
	while (in_.left > 0) {
		const step = in_.byte();
		const r = in_.rect(surface.canvas);
		if (step === 1) {
			const [dx, dy] = [in_.signed(), in_.signed()];
			surface.drawImage(surface.canvas, r.x + dx, r.y + dy, r.w, r.h, r.x, r.y, r.w, r.h);
		} else if (step === 2) {
			const [red, green, blue] = in_.take(3);
			surface.fillStyle = `rgb(${red} ${green} ${blue})`;
			surface.fillRect(r.x, r.y, r.w, r.h);
		} else if (step === 3) surface.putImageData(palette(in_, r), r.x, r.y);
		else if (step === 4) surface.putImageData(pixels(in_, r), r.x, r.y);
		else throw new Error(`there is no step ${step}`);
	}
}

function bitsFor(colours: number) {
	if (colours <= 2) return 1;
	if (colours <= 4) return 2;
	return colours <= 16 ? 4 : 8;
}

function palette(in_: Reader, { w, h }: Rect) {
	const colours = new Uint32Array(in_.byte() + 1);
	for (let i = 0; i < colours.length; i++) colours[i] = in_.colour();
	const bits = bitsFor(colours.length);
	const image = new ImageData(w, h);
	const out = new Uint32Array(image.data.buffer);
	const mask = (1 << bits) - 1;
	for (let y = 0; y < h; y++) {
		const row = in_.take(Math.ceil((w * bits) / 8));
		for (let x = 0; x < w; x++) {
			const at = x * bits;
			const place = ((row[at >> 3] ?? 0) >> (8 - bits - (at & 7))) & mask;
			out[y * w + x] = colours[place] ?? 0xff000000;
		}
	}
	return image;
}

function pixels(in_: Reader, { w, h }: Rect) {
	const n = w * h;
	const planes = new Uint8Array(in_.take(3 * n)); // a copy, that the samples replace the differences in
	const row = new Uint8Array(w);
	for (let plane = 0; plane < 3; plane++) {
		let above = row.fill(0);
		for (let y = 0; y < h; y++) {
			const line = planes.subarray((plane * h + y) * w, (plane * h + y + 1) * w);
			let left = above[0] ?? 0;
			let corner = left;
			for (let x = 0; x < w; x++) {
				const up = above[x] as number;
				const [lo, hi] = left < up ? [left, up] : [up, left];
				const told = corner >= hi ? lo : corner <= lo ? hi : left + up - corner;
				left = ((line[x] as number) + told) & 255;
				line[x] = left;
				corner = up;
			}
			above = line;
		}
	}
	const image = new ImageData(w, h);
	const out = new Uint32Array(image.data.buffer);
	for (let i = 0; i < n; i++) {
		const green = planes[i] as number;
		const red = ((planes[n + i] as number) + green) & 255;
		const blue = ((planes[2 * n + i] as number) + green) & 255;
		out[i] = (0xff000000 | (blue << 16) | (green << 8) | red) >>> 0;
	}
	return image;
}
