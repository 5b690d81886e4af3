import { lexer, type Token } from "marked";

/** A page of the handbook: what it is called, which pages of the console it is about, and what it says. */
export type HandbookPage = { id: string; title: string; about: string[]; tokens: Token[] };

const files = import.meta.glob<string>("../../../docs/handbook/*.md", {
	query: "?raw",
	import: "default",
	eager: true,
});

/** The pages in the order of a working day, as docs/handbook has them. */
export const handbook: HandbookPage[] = Object.entries(files)
	.sort(([a], [b]) => (a < b ? -1 : 1))
	.map(([file, text]) => readPage(file.replace(/^.*\/\d+-|\.md$/g, ""), text));

/** Reads a page: its first head is the title, and a comment after it names the pages that it is about. */
export function readPage(id: string, text: string): HandbookPage {
	const tokens = lexer(text);
	const title = tokens.find((t) => t.type === "heading");
	const about = /<!-- pages: (.*?) -->/.exec(text)?.[1]?.split(" ") ?? [];
	return {
		id,
		title: title?.type === "heading" ? title.text : id,
		about,
		tokens: tokens.filter((t) => t !== title && t.type !== "html" && t.type !== "space"),
	};
}

/** The page that is about a page of the console; the first where none is. */
export function handbookFor(path: string) {
	const at = path.startsWith("/devices/") ? "/bench" : `/${path.split("/")[1] ?? ""}`;
	return handbook.find((p) => p.about.includes(at)) ?? handbook[0];
}
