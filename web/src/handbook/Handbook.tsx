import type { Token, Tokens } from "marked";
import type { ReactNode } from "react";
import { Link, NavLink, useParams } from "react-router";
import { Empty } from "../parts/ProblemAlert";
import { handbook } from "./pages";

/** The handbook: a page for each task, in the order of a working day. */
export function Handbook() {
	const { page } = useParams();
	const shown = page ? handbook.find((p) => p.id === page) : handbook[0];
	return (
		<div className="mx-auto flex max-w-5xl gap-8 px-5 py-5 max-md:flex-col">
			<nav aria-label="Handbook" className="shrink-0 md:w-56">
				<ol className="space-y-0.5 md:sticky md:top-5">
					{handbook.map((p) => (
						<li key={p.id}>
							<NavLink
								to={`/handbook/${p.id}`}
								className={`block rounded-md px-2 py-1 ${p === shown ? "bg-heather-tint font-medium text-heather" : "text-faint hover:text-word"}`}
							>
								{p.title}
							</NavLink>
						</li>
					))}
				</ol>
			</nav>
			{shown ? (
				<article className="min-w-0 flex-1 space-y-3 leading-relaxed">
					<h1 className="font-semibold text-xl">{shown.title}</h1>
					{shown.tokens.map((t, i) => (
						<Block key={i} of={t} />
					))}
				</article>
			) : (
				<Empty title="The handbook has no such page.">
					<Link to="/handbook" className="link">
						Begin with the first
					</Link>
					.
				</Empty>
			)}
		</div>
	);
}

function Block({ of: t }: { of: Token }): ReactNode {
	switch (t.type) {
		case "heading":
			return <h2 className="pt-2 font-semibold text-lg">{inline(t.tokens)}</h2>;
		case "paragraph":
			return <p>{inline(t.tokens)}</p>;
		case "list": {
			const List = (t as Tokens.List).ordered ? "ol" : "ul";
			return (
				<List className={`space-y-1 pl-6 ${(t as Tokens.List).ordered ? "list-decimal" : "list-disc"}`}>
					{(t as Tokens.List).items.map((item, i) => (
						<li key={i}>
							{item.tokens.map((one, n) =>
								"tokens" in one && one.tokens ? <span key={n}>{inline(one.tokens)}</span> : null,
							)}
						</li>
					))}
				</List>
			);
		}
		case "code":
			return (
				<pre className="whitespace-pre-wrap break-words rounded-md border border-line bg-panel p-3 font-mono text-sm">
					{t.text}
				</pre>
			);
		default:
			return null;
	}
}

function inline(tokens: Token[] | undefined): ReactNode {
	return tokens?.map((t, i) => {
		switch (t.type) {
			case "strong":
				return <strong key={i}>{inline(t.tokens)}</strong>;
			case "em":
				return <em key={i}>{inline(t.tokens)}</em>;
			case "codespan":
				return (
					<code key={i} className="rounded bg-panel px-1 font-mono text-[0.9em]">
						{t.text}
					</code>
				);
			case "link":
				return (
					<Link key={i} className="link" to={t.href}>
						{inline(t.tokens)}
					</Link>
				);
			default:
				return "text" in t ? t.text : "";
		}
	});
}
