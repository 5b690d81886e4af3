import { Popover, PopoverButton, PopoverPanel } from "@headlessui/react";
import { UserPlusIcon } from "@heroicons/react/20/solid";
import { useMutation, useQuery } from "@tanstack/react-query";
import { answer, api, type Schemas } from "../api/client";
import { readAll } from "../api/queries";
import { ProblemAlert } from "../parts/ProblemAlert";
import { Ago } from "../parts/time";

type Colleague = Schemas["Colleague"];

/** Asks a colleague to join a screen, or hands it over to one. */
export function Colleagues({
	device,
	desktop,
	onHandOver,
}: {
	device: string;
	desktop?: string;
	onHandOver: (to: Colleague) => void;
}) {
	return (
		<Popover>
			<PopoverButton className="button-quiet">
				<UserPlusIcon className="size-4" aria-hidden="true" />
				Colleagues
			</PopoverButton>
			<PopoverPanel anchor="bottom start" className="z-30 w-80 rounded-md border border-line bg-raised p-3 shadow-lg">
				{({ close }) => <List device={device} desktop={desktop} onHandOver={onHandOver} close={close} />}
			</PopoverPanel>
		</Popover>
	);
}

function List({
	device,
	desktop,
	onHandOver,
	close,
}: {
	device: string;
	desktop?: string;
	onHandOver: (to: Colleague) => void;
	close: () => void;
}) {
	const all = useQuery(readAll("/devices/{id}/screen/colleagues", { path: { id: device } }));
	const invite = useMutation({
		mutationFn: ({ to, handOver }: { to: Colleague; handOver: boolean }) =>
			answer(
				api.POST("/devices/{id}/screen/invitations", {
					params: { path: { id: device } },
					body: { person: to.id, desktop, hand_over: handOver },
				}),
			),
		onSuccess: (_, { to, handOver }) => {
			if (handOver) onHandOver(to);
			close();
		},
	});
	if (all.isPending) return <p className="text-faint">Looking who may see this screen…</p>;
	if (all.isError) return <ProblemAlert error={all.error} retry={() => all.refetch()} />;
	if (all.data.length === 0) return <p className="text-faint">Nobody else may look at this screen.</p>;
	return (
		<>
			<ul className="max-h-72 space-y-1 overflow-auto">
				{all.data.map((c) => (
					<li key={c.id} className="flex items-center gap-1">
						<span className="min-w-0 flex-1">
							<span className="block truncate font-medium">{c.name}</span>
							<span className="block text-faint text-sm">
								{c.last_seen_at ? (
									<>
										here <Ago at={c.last_seen_at} />
									</>
								) : (
									"never here yet"
								)}
								{!c.act && ", may look on"}
							</span>
						</span>
						<button type="button" className="button-quiet" onClick={() => invite.mutate({ to: c, handOver: false })}>
							Ask to join
						</button>
						{c.act && (
							<button type="button" className="button-quiet" onClick={() => invite.mutate({ to: c, handOver: true })}>
								Hand over
							</button>
						)}
					</li>
				))}
			</ul>
			{invite.isError && <ProblemAlert error={invite.error} />}
		</>
	);
}
