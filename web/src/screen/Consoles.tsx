import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../api/client";
import { useMay } from "../api/me";
import { read, useReadAnew } from "../api/queries";
import { TextField } from "../parts/fields";
import { ProblemAlert } from "../parts/ProblemAlert";

/** The consoles that are reached over a device's network: added, and removed. */
export function Consoles({ device, onClose }: { device: string; onClose: () => void }) {
	const may = useMay("policy.manage");
	const [name, setName] = useState("");
	const [address, setAddress] = useState("");
	const [password, setPassword] = useState("");
	const path = { id: device };
	const all = useQuery(read("/devices/{id}/consoles", { path, query: { limit: 100 } }));
	const changed = useReadAnew(["/devices/{id}/consoles", "/devices/{id}/screen/desktops"], path);
	const add = useMutation({
		mutationFn: () =>
			answer(
				api.POST("/devices/{id}/consoles", {
					params: { path },
					body: { name, address, password: password || undefined },
				}),
			),
		onSuccess: () => {
			setName("");
			setAddress("");
			setPassword("");
			changed();
		},
	});
	const remove = useMutation({
		mutationFn: (id: string) =>
			answer(api.DELETE("/devices/{id}/consoles/{console}", { params: { path: { id: device, console: id } } })),
		onSuccess: changed,
	});
	return (
		<Dialog open onClose={onClose} className="relative z-40">
			<div className="fixed inset-0 bg-black/40" aria-hidden="true" />
			<div className="fixed inset-0 flex items-start justify-center p-4 pt-[12vh]">
				<DialogPanel className="w-full max-w-lg rounded-lg border border-line bg-raised p-4 shadow-xl">
					<DialogTitle className="font-semibold text-lg">Consoles over the network</DialogTitle>
					<p className="mt-1 text-faint">
						The screens of virtual machines, management boards and other servers of RFB that this device reaches. Nobody
						is asked before they are seen.
					</p>
					{all.isError && <ProblemAlert error={all.error} />}
					<ul className="my-3 divide-y divide-line">
						{all.data?.items.map((o) => (
							<li key={o.id} className="flex items-center gap-3 py-1.5">
								<span className="min-w-0 flex-1">
									<span className="font-medium">{o.name}</span>{" "}
									<span className="text-faint">
										at {o.address}
										{o.secret && ", with a password"}
									</span>
								</span>
								{may && (
									<button type="button" className="button-quiet" onClick={() => remove.mutate(o.id)}>
										Remove
									</button>
								)}
							</li>
						))}
						{all.data?.items.length === 0 && <li className="py-1.5 text-faint">There is none yet.</li>}
					</ul>
					{may && (
						<form
							className="flex flex-wrap items-end gap-2"
							onSubmit={(e) => {
								e.preventDefault();
								add.mutate();
							}}
						>
							<TextField label="Name" className="w-36" required value={name} onChange={setName} />
							<TextField
								label="Host and port"
								className="w-40"
								required
								placeholder="host:5900"
								value={address}
								onChange={setAddress}
							/>
							<TextField
								label="Password, if any"
								className="w-28"
								type="password"
								autoComplete="off"
								maxLength={8}
								value={password}
								onChange={setPassword}
							/>
							<button type="submit" className="button" disabled={add.isPending}>
								Add
							</button>
						</form>
					)}
					{(add.isError || remove.isError) && <ProblemAlert error={add.error ?? remove.error} />}
					<div className="mt-3 flex justify-end">
						<button type="button" className="button-quiet" onClick={onClose}>
							Close
						</button>
					</div>
				</DialogPanel>
			</div>
		</Dialog>
	);
}
