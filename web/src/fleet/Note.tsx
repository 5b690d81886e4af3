import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Device } from "../api/client";
import { useMay } from "../api/me";
import { readAnew } from "../api/queries";
import { AreaField, TextField } from "../parts/fields";
import { ProblemAlert } from "../parts/ProblemAlert";

/** What people call a device and note about it; who may changes it in place. */
export function Note({ device: d }: { device: Device }) {
	const may = useMay("group.manage");
	const queries = useQueryClient();
	const [open, setOpen] = useState(false);
	const [alias, setAlias] = useState("");
	const [note, setNote] = useState("");
	const save = useMutation({
		mutationFn: () =>
			answer(api.PUT("/devices/{id}/note", { params: { path: { id: d.id } }, body: { alias: alias.trim(), note } })),
		onSuccess: () => {
			setOpen(false);
			readAnew(queries, "/devices/{id}", { id: d.id });
		},
	});
	const edit = () => {
		setAlias(d.alias ?? "");
		setNote(d.note ?? "");
		setOpen(true);
	};
	if (open)
		return (
			<form
				className="space-y-2"
				onSubmit={(e) => {
					e.preventDefault();
					save.mutate();
				}}
			>
				<TextField label="Called" maxLength={100} value={alias} onChange={setAlias} />
				<AreaField label="Note" rows={3} maxLength={2000} value={note} onChange={setNote} />
				<button type="submit" className="button" disabled={save.isPending}>
					Save
				</button>
				<button type="button" className="button-quiet" onClick={() => setOpen(false)}>
					Cancel
				</button>
				{save.isError && <ProblemAlert error={save.error} />}
			</form>
		);
	if (!d.alias && !d.note && !may) return null;
	return (
		<section aria-label="Note">
			{d.alias && <p className="font-medium">{d.alias}</p>}
			{d.note && <p className="whitespace-pre-wrap break-words">{d.note}</p>}
			{may && (
				<button type="button" className="link text-sm" onClick={edit}>
					{d.alias || d.note ? "Change the note" : "Add a name or note"}
				</button>
			)}
		</section>
	);
}
