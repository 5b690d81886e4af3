/** Paths as a device writes them: with / everywhere, or with drives and \ on Windows. */
export function separator(os: string) {
	return os === "windows" ? "\\" : "/";
}

export function root(os: string) {
	return os === "windows" ? "C:\\" : "/";
}

export function join(folder: string, name: string, os: string) {
	const s = separator(os);
	const local = os === "windows" ? name.replaceAll("/", "\\") : name;
	return folder.endsWith(s) ? folder + local : folder + s + local;
}

export function parent(path: string, os: string) {
	const s = separator(os);
	const trimmed = path.endsWith(s) ? path.slice(0, -1) : path;
	const at = trimmed.lastIndexOf(s);
	return at < 0 ? path : trimmed.slice(0, at) + (at <= 2 && !trimmed.slice(0, at).includes(s) ? s : "");
}

/** The folders above a path, each with its name, the topmost first. */
export function crumbs(path: string, os: string) {
	const s = separator(os);
	const parts = path.split(s).filter(Boolean);
	const all = [
		{ name: os === "windows" ? (parts.shift() ?? "") : s, path: os === "windows" ? `${path.slice(0, 2)}${s}` : s },
	];
	for (const name of parts) all.push({ name, path: join(all.at(-1)?.path ?? s, name, os) });
	return all;
}

/** A name as it can be shown: what is no text, or steers, is made visible. */
export function visible(name: string) {
	let out = "";
	for (const c of name) {
		const code = c.codePointAt(0) ?? 0;
		if (code < 32 || code === 127) out += String.fromCodePoint(code === 127 ? 0x2421 : 0x2400 + code);
		else if (code >= 0x10ff00) out += "�";
		else out += c;
	}
	return out;
}
