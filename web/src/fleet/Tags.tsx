import { XMarkIcon } from "@heroicons/react/16/solid";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Device } from "../api/client";
import { useMay } from "../api/me";
import { readAnew } from "../api/queries";
import { ProblemAlert } from "../parts/ProblemAlert";

/** The tags of a device and the groups that it is in. */
export function Tags({ device: d }: { device: Device }) {
	const queries = useQueryClient();
	const may = useMay("group.manage");
	const [typed, setTyped] = useState("");
	const tags = d.tags ?? [];
	const set = useMutation({
		mutationFn: (next: string[]) =>
			answer(api.PUT("/devices/{id}/tags", { params: { path: { id: d.id } }, body: { tags: next } })),
		onSuccess: () => {
			setTyped("");
			readAnew(queries, "/devices/{id}", { id: d.id });
		},
	});
	return (
		<section>
			<h2 className="mb-1 font-semibold">Tags and groups</h2>
			<div className="flex flex-wrap items-center gap-1">
				{tags.map((t) => (
					<span key={t} className="inline-flex items-center rounded-full bg-heather-tint px-2 text-sm">
						{t}
						{may && (
							<button
								type="button"
								aria-label={`Remove the tag ${t}`}
								className="ml-0.5 text-faint hover:text-word"
								onClick={() => set.mutate(tags.filter((x) => x !== t))}
							>
								<XMarkIcon className="size-3.5" />
							</button>
						)}
					</span>
				))}
				{(d.groups ?? []).map((g) => (
					<span key={g} className="rounded-full border border-line px-2 text-sm">
						{g}
					</span>
				))}
				{may && (
					<form
						onSubmit={(e) => {
							e.preventDefault();
							if (typed.trim()) set.mutate([...tags, typed.trim()]);
						}}
					>
						<input
							aria-label="New tag"
							placeholder="add a tag"
							className="w-20 rounded border border-transparent bg-transparent px-1 text-sm placeholder:text-faint focus:border-edge"
							maxLength={60}
							value={typed}
							onChange={(e) => setTyped(e.target.value)}
						/>
					</form>
				)}
			</div>
			{set.isError && <ProblemAlert error={set.error} />}
		</section>
	);
}
