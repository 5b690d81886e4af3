import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, api, ProblemError } from "../api/client";
import { AreaField, TextField } from "../parts/fields";
import { ProblemAlert } from "../parts/ProblemAlert";

/** Tries a script that is not saved yet on one device. */
export function TryForm({ draft }: { draft: string }) {
	const go = useNavigate();
	const [name, setName] = useState("");
	const [values, setValues] = useState("");
	const begin = useMutation({
		mutationFn: async () => {
			const found = await answer(
				api.GET("/devices", { params: { query: { where: `name == ${JSON.stringify(name.trim())}`, limit: 2 } } }),
			);
			const one = found.items[0];
			if (!one || found.items.length > 1)
				throw new ProblemError({
					status: 0,
					title: one ? `Several devices are named ${name}.` : `There is no device named ${name}.`,
					detail: "Give the whole name, as the list of devices shows it.",
				});
			const given = Object.fromEntries(
				values
					.split("\n")
					.filter((l) => l.includes("="))
					.map((l) => [l.slice(0, l.indexOf("=")).trim(), l.slice(l.indexOf("=") + 1)]),
			);
			return answer(api.POST("/jobs", { body: { draft, devices: [one.id], where: "", values: given } }));
		},
		onSuccess: (j) => go(`/jobs/${j.id}`),
	});
	return (
		<form
			className="space-y-3 rounded-md border border-line bg-panel p-4"
			onSubmit={(e) => {
				e.preventDefault();
				begin.mutate();
			}}
		>
			<h3 className="font-semibold">Try it on one device first</h3>
			<div className="flex flex-wrap items-end gap-3">
				<TextField label="Name of the device" className="w-56" required value={name} onChange={setName} />
				<AreaField
					label="Parameters, NAME=value a line"
					className="h-9 w-72 font-mono text-sm"
					value={values}
					onChange={setValues}
				/>
				<button type="submit" className="button-quiet border border-line" disabled={begin.isPending}>
					Try it there
				</button>
			</div>
			<p className="text-faint text-sm">
				It runs as it is written above, is not saved, and its result is shown as that of any job.
			</p>
			{begin.isError && <ProblemAlert error={begin.error} />}
		</form>
	);
}
