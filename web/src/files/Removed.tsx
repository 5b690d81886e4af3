import { useMutation, useQuery } from "@tanstack/react-query";
import type { Device, Schemas } from "../api/client";
import { useMay } from "../api/me";
import { read } from "../api/queries";
import { Confirm } from "../parts/Confirm";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { bytes } from "../parts/units";
import { change } from "./change";
import { visible } from "./paths";

/** What was removed from a device and can be had back. */
export function Removed({ device, onClose }: { device: Device; onClose: () => void }) {
	const act = useMay("files.act");
	const administer = useMay("files.administer");
	const list = useQuery(read("/devices/{id}/files/removed", { path: { id: device.id } }));
	const action = useMutation({
		mutationFn: async (body: Schemas["FileAction"]) => {
			const { failed } = await change(device.id, body);
			if (failed[0]) throw new Error(failed[0]);
		},
		onSettled: () => list.refetch(),
	});
	return (
		<div className="h-full overflow-auto px-3 py-2">
			<button type="button" className="button-quiet mb-2" onClick={onClose}>
				Back to the files
			</button>
			{action.isError && <ProblemAlert error={action.error} />}
			{list.isPending && <Waiting what="what was removed" />}
			{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
			{list.data?.items.length === 0 && (
				<Empty title="Nothing was removed from here.">
					What you remove in this pane stays here until it is removed for good.
				</Empty>
			)}
			{list.data && list.data.items.length > 0 && (
				<Table
					rows={list.data.items}
					id={(r) => r.id}
					columns={[
						{ head: "Where it was", className: "break-all", show: (r) => visible(r.path) },
						{ head: "Removed", value: (r) => r.at, show: (r) => <Ago at={r.at} /> },
						{ head: "Size", className: "tabular-nums", show: (r) => (r.kind === "folder" ? "folder" : bytes(r.size)) },
						{
							head: "",
							actions: true,
							show: (r) => (
								<>
									{act && (
										<button
											type="button"
											className="button-quiet"
											disabled={action.isPending}
											aria-label={`Restore ${r.path}`}
											onClick={() => action.mutate({ action: "restore", paths: [r.id] })}
										>
											Restore
										</button>
									)}
									{administer && (
										<Confirm
											label="Remove for good"
											title="Remove it for good?"
											verb="Remove for good"
											disabled={action.isPending}
											onDo={() => action.mutate({ action: "purge", paths: [r.id] })}
										>
											<p>{visible(r.path)} cannot be had back after that.</p>
										</Confirm>
									)}
								</>
							),
						},
					]}
				/>
			)}
		</div>
	);
}
