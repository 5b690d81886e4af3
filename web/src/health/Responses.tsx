import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { read } from "../api/queries";
import { Ago } from "../parts/time";
import { useCheckTitle } from "./alerts";

type Run = Schemas["ResponseRun"];

const colours: Record<string, string> = { healed: "text-moss", "gave up": "text-rowan", held: "text-gorse" };

/** How far a response has come, in a sentence. */
export function ResponseState({ of: r }: { of: Run }) {
	return (
		<span className={colours[r.state] ?? "text-heather"}>
			{r.state === "healed"
				? r.check === "software" || r.check === "setting"
					? "put right"
					: "healed"
				: r.state === "gave up"
					? "did not help"
					: r.state === "held"
						? "held back: tried too often"
						: r.state === "watching"
							? `done: ${r.doing}; watching whether it helped`
							: `${r.doing}${r.steps > 1 ? ` (step ${r.step} of ${r.steps})` : ""}`}
		</span>
	);
}

/** What policies did by themselves of late. */
export function LateResponses() {
	const title = useCheckTitle();
	const list = useQuery(read("/responses", { query: { limit: 6 } })).data?.items.filter(
		(r) => !r.ended_at || Date.now() - Date.parse(r.ended_at) < 24 * 3600_000,
	);
	if (!list?.length) return null;
	return (
		<section className="mt-8" aria-label="Done by policies">
			<h2 className="mb-1 font-semibold">Done by policies of late</h2>
			<ul>
				{list.map((r) => (
					<li key={r.id} className="flex flex-wrap gap-x-4 border-line border-b py-1.5">
						<Link to={`/devices/${r.device}`} className="w-40 font-medium hover:text-heather">
							{r.device_name}
						</Link>
						<span className="min-w-64">
							{title(r.check)} {r.subject}
						</span>
						<span className="text-faint">{r.name}</span>
						<span>
							{r.job ? (
								<Link to={`/jobs/${r.job}`} className="hover:underline">
									<ResponseState of={r} />
								</Link>
							) : (
								<ResponseState of={r} />
							)}
						</span>
						<span className="ml-auto text-faint">
							<Ago at={r.ended_at ?? r.began_at} />
						</span>
					</li>
				))}
			</ul>
		</section>
	);
}
