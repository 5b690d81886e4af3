import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Device, Schemas } from "../api/client";
import { useMay } from "../api/me";
import { read } from "../api/queries";
import { Question } from "../parts/Confirm";
import { SelectField } from "../parts/fields";
import { Labelled } from "../parts/Labelled";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { change } from "./change";
import { visible } from "./paths";

type May = NonNullable<Schemas["FileAction"]["may"]>;

const mays: [May, string][] = [
	["read", "read and run"],
	["change", "read, write, run and remove"],
	["everything", "do everything, and let others in"],
	["nothing", "do nothing, whatever its groups may"],
	["inherited", "do what the folder above says"],
];

/** Who may do what with one file or folder, on systems that keep lists of that. */
export function Access({ device, path, name }: { device: Device; path: string; name: string }) {
	const [open, setOpen] = useState(false);
	return (
		<>
			<button type="button" className="button-quiet" onClick={() => setOpen(true)}>
				Access
			</button>
			<Question open={open} title={`Who may do what with ${visible(name)}`} onClose={() => setOpen(false)}>
				<List device={device} path={path} onClose={() => setOpen(false)} />
			</Question>
		</>
	);
}

function List({ device, path, onClose }: { device: Device; path: string; onClose: () => void }) {
	const administer = useMay("files.administer");
	const [who, setWho] = useState("");
	const [may, setMay] = useState<May>("read");
	const entry = useQuery(read("/devices/{id}/files/entry", { path: { id: device.id }, query: { path } }));
	const action = useMutation({
		mutationFn: async () => {
			const { failed } = await change(device.id, { action: "permit", paths: [path], who, may });
			if (failed[0]) throw new Error(failed[0]);
		},
		onSuccess: () => setWho(""),
		onSettled: () => entry.refetch(),
	});
	return (
		<div className="mt-2 space-y-3">
			{entry.isPending && <Waiting what="the list" />}
			{entry.isError && <ProblemAlert error={entry.error} retry={() => entry.refetch()} />}
			{entry.data && (
				<>
					<p className="text-faint">It belongs to {visible(entry.data.owner || "nobody that can be told")}.</p>
					<ul aria-label="Access" className="max-h-[30vh] divide-y divide-line overflow-auto border-line border-y">
						{(entry.data.access ?? []).map((line) => (
							<li key={line} className="py-1">
								{visible(line)}
							</li>
						))}
					</ul>
				</>
			)}
			{action.isError && <ProblemAlert error={action.error} />}
			<form
				className="space-y-3"
				onSubmit={(e) => {
					e.preventDefault();
					action.mutate();
				}}
			>
				{administer && (
					<div className="grid grid-cols-2 gap-3">
						<Labelled label="Account or group">
							<input
								className="field"
								value={who}
								placeholder="Users, or LARKMOOR\wren"
								maxLength={255}
								spellCheck={false}
								onChange={(e) => setWho(e.target.value)}
							/>
						</Labelled>
						<SelectField label="May" value={may} onChange={setMay}>
							{mays.map(([value, words]) => (
								<option key={value} value={value}>
									{words}
								</option>
							))}
						</SelectField>
					</div>
				)}
				<div className="flex justify-end gap-2">
					<button type="button" className="button-quiet" onClick={onClose}>
						Close
					</button>
					{administer && (
						<button type="submit" className="button" disabled={!who.trim() || action.isPending}>
							{action.isPending ? "Setting it…" : "Set it"}
						</button>
					)}
				</div>
			</form>
		</div>
	);
}
