import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { SelectField } from "../parts/fields";
import { ProblemAlert } from "../parts/ProblemAlert";
import { Copyable } from "../parts/Secret";
import { type Place, SiteOptions, useOrganisations } from "./organisations";

/** What becomes of a device and its agent: another site, or the code with which the agent is taken off it. */
export function Keeping({ device: d }: { device: Schemas["Device"] }) {
	const queries = useQueryClient();
	const [open, setOpen] = useState(false);
	const [place, setPlace] = useState("");
	const sites = useOrganisations({ enabled: open });
	const params = { path: { id: d.id } };
	const move = useMutation({
		mutationFn: () => answer(api.PUT("/devices/{id}/site", { params, body: JSON.parse(place) as Place })),
		onSuccess: () => queries.invalidateQueries(),
	});
	const code = useMutation({ mutationFn: () => answer(api.GET("/devices/{id}/removal-code", { params })) });
	return (
		<details className="mt-1" onToggle={(e) => setOpen(e.currentTarget.open)}>
			<summary className="cursor-pointer text-faint">Move it, or remove its agent</summary>
			<form
				className="mt-2 flex gap-2"
				onSubmit={(e) => {
					e.preventDefault();
					move.mutate();
				}}
			>
				<SelectField
					label="Site to move it to"
					hidden
					className="min-w-0 flex-1"
					required
					value={place}
					onChange={setPlace}
				>
					<option value="">To which site?</option>
					<SiteOptions not={d} enabled={open} />
				</SelectField>
				<button type="submit" className="button-quiet" disabled={move.isPending}>
					Move
				</button>
			</form>
			{sites.isError && <ProblemAlert error={sites.error} />}
			{move.isError && <ProblemAlert error={move.error} />}
			{move.isSuccess && <p role="status">It is moved; its history stays with it.</p>}
			<button type="button" className="button-quiet mt-1" onClick={() => code.mutate()} disabled={code.isPending}>
				Show its removal code
			</button>
			{code.isError && <ProblemAlert error={code.error} />}
			{code.isSuccess && (
				<Copyable text={`moor-agent uninstall --code ${code.data.code}`} label="the command that removes the agent" />
			)}
		</details>
	);
}
