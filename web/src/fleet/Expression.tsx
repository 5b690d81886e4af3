import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useRef, useState } from "react";
import { answer, api, ProblemError } from "../api/client";
import { read } from "../api/queries";

/** A CEL expression over devices, with completion, and how many devices it holds for while typing. */
export function Expression({
	value,
	onChange,
	label,
}: {
	value: string;
	onChange: (v: string) => void;
	label: string;
}) {
	const field = useRef<HTMLTextAreaElement>(null);
	const [at, setAt] = useState(0);
	const words = useQuery({ ...read("/words"), staleTime: 60_000 }).data?.items;
	const late = useDeferredValue(value);
	const preview = useQuery({
		queryKey: ["preview", late],
		queryFn: ({ signal }) => answer(api.POST("/groups/preview", { body: { expression: late }, signal })),
		enabled: late.trim() !== "",
		placeholderData: (old) => old,
		retry: false,
	});
	const typed = /[\w.]*$/.exec(value.slice(0, at))?.[0] ?? "";
	const quoted = /(\w+)\s*(?:==|!=|in)\s*"([^"]*)$/.exec(value.slice(0, at));
	const offered = quoted
		? (words?.find((w) => w.name === quoted[1])?.values ?? [])
				.filter((v) => v.toLowerCase().includes((quoted[2] ?? "").toLowerCase()))
				.slice(0, 8)
				.map((v) => ({ text: v, about: "", insert: `${v.slice(0)}"`, back: quoted[2]?.length ?? 0 }))
		: (words ?? [])
				.filter((w) => typed !== "" && w.name.startsWith(typed) && w.name !== typed)
				.slice(0, 8)
				.map((w) => ({ text: w.name, about: `${w.type}. ${w.about}`, insert: w.name, back: typed.length }));
	const complete = (o: { insert: string; back: number }) => {
		const next = value.slice(0, at - o.back) + o.insert + value.slice(at).replace(/^"/, "");
		onChange(next);
		field.current?.focus();
		setAt(at - o.back + o.insert.length);
	};
	const problem = preview.error instanceof ProblemError ? preview.error.problem : undefined;
	return (
		<div>
			<textarea
				ref={field}
				aria-label={label}
				className="field font-mono text-sm"
				rows={2}
				spellCheck={false}
				maxLength={4096}
				placeholder={'os == "windows" && disk > 80'}
				value={value}
				onChange={(e) => {
					onChange(e.target.value);
					setAt(e.target.selectionStart);
				}}
				onSelect={(e) => setAt(e.currentTarget.selectionStart)}
				onKeyDown={(e) => {
					const first = offered[0];
					if (e.key === "Tab" && !e.shiftKey && first) {
						e.preventDefault();
						complete(first);
					}
				}}
			/>
			{offered.length > 0 && (
				<ul aria-label="Completions" className="mt-1 flex flex-wrap gap-1">
					{offered.map((o, i) => (
						<li key={o.text}>
							<button
								type="button"
								title={o.about}
								className="rounded border border-line px-1.5 font-mono text-sm hover:bg-heather-tint"
								onClick={() => complete(o)}
							>
								{o.text}
								{i === 0 && <span className="ml-1 text-faint text-xs">Tab</span>}
							</button>
						</li>
					))}
				</ul>
			)}
			<div role="status" className="mt-1 min-h-6 text-sm">
				{late.trim() === "" ? (
					<span className="text-faint">
						Words: {(words ?? []).map((w) => w.name).join(", ")}. Join with &amp;&amp;, || and !.
					</span>
				) : problem ? (
					<pre className="overflow-x-auto whitespace-pre-wrap text-rowan">
						{problem.detail?.split("\nVariables:")[0]}
					</pre>
				) : preview.data ? (
					<>
						<span className="font-medium">
							{preview.data.count} of {preview.data.of} devices
						</span>
						<span className="text-faint">
							{preview.data.count > 0 && `: ${preview.data.items.map((d) => d.name).join(", ")}`}
							{preview.data.count > preview.data.items.length && " and more"}
							{preview.data.undecided > 0 &&
								`. It cannot be decided for ${preview.data.undecided}: ${preview.data.why}`}
						</span>
					</>
				) : null}
			</div>
		</div>
	);
}
