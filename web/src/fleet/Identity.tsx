import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { answer, api, type Schemas } from "../api/client";
import { ProblemAlert } from "../parts/ProblemAlert";
import { Ago } from "../parts/time";

/** Whether a computer is the device that it seems to be: what is known, and the two answers. */
export function Identity({ question: q, may }: { question: Schemas["IdentityQuestion"]; may: boolean }) {
	const queries = useQueryClient();
	const navigate = useNavigate();
	const say = useMutation({
		mutationFn: (same: boolean) =>
			answer(api.PUT("/devices/{id}/identity", { params: { path: { id: q.device } }, body: { question: q.id, same } })),
		onSuccess: async (_, same) => {
			if (same && q.older) navigate(`/devices/${q.older}`);
			await queries.invalidateQueries();
		},
	});
	const copied = q.kind === "copied";
	if (q.kind === "enrolled") {
		return (
			<section aria-label="Let it in?" className="space-y-2 rounded border border-line bg-raised p-3">
				<h2 className="font-medium">Let this device in?</h2>
				<p>
					It enrolled as {q.host_name} from {q.address} <Ago at={q.asked_at} />, and waits.
				</p>
				<ul className="wrap-anywhere text-faint">
					{q.hardware.map((h) => (
						<li key={h}>{h.replace(":", " ")}</li>
					))}
				</ul>
				{may && (
					<div className="flex flex-col gap-1">
						<button
							type="button"
							className="button justify-center"
							disabled={say.isPending}
							onClick={() => say.mutate(true)}
						>
							Let it in
						</button>
						<button
							type="button"
							className="button-quiet justify-center"
							disabled={say.isPending}
							onClick={() => say.mutate(false)}
						>
							Refuse: retire it
						</button>
					</div>
				)}
				{say.isError && <ProblemAlert error={say.error} />}
			</section>
		);
	}
	return (
		<section aria-label="Which computer is it?" className="space-y-2 rounded border border-line bg-raised p-3">
			<h2 className="font-medium">{copied ? "Is this computer the same device?" : `Is this ${q.older_name}?`}</h2>
			{copied ? (
				<p>
					{q.host_name} at {q.address} showed this device's identity on other hardware <Ago at={q.seen_at} />. It is
					kept out until you say which it is.
				</p>
			) : (
				<p>
					It was enrolled as a new device, on the hardware of {q.older_name}
					{q.older_last_heard && (
						<>
							, which was heard from <Ago at={q.older_last_heard} />
						</>
					)}
					.
				</p>
			)}
			<details>
				<summary className="cursor-pointer text-faint">The hardware of both</summary>
				<ul className="mt-1 wrap-anywhere text-faint">
					{[...new Set([...q.known, ...q.hardware])].sort().map((h) => (
						<li key={h}>
							{h.replace(":", " ")} –{" "}
							{q.known.includes(h) ? (q.hardware.includes(h) ? "both" : "known here") : "the other's"}
						</li>
					))}
				</ul>
			</details>
			{may && (
				<div className="flex flex-col gap-1">
					<button
						type="button"
						className="button justify-center"
						disabled={say.isPending}
						onClick={() => say.mutate(true)}
					>
						{copied ? "The same, in another body" : `The same: go on as ${q.older_name}`}
					</button>
					<button
						type="button"
						className="button-quiet justify-center"
						disabled={say.isPending}
						onClick={() => say.mutate(false)}
					>
						{copied ? "A copy: make it a device of its own" : "Another device"}
					</button>
				</div>
			)}
			{say.isError && <ProblemAlert error={say.error} />}
		</section>
	);
}
