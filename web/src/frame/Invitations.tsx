import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import type { Schemas } from "../api/client";

const key = ["invitations"];
type Invited = Schemas["Invited"];

/** Keeps an invitation until it is answered; a later one to the same screen takes its place. */
export function keepInvitation(queries: ReturnType<typeof useQueryClient>, data: string) {
	const one: Invited = JSON.parse(data);
	queries.setQueryData<Invited[]>(key, (old = []) => [...old.filter((o) => o.device !== one.device), one]);
}

/** The screens that colleagues ask one to. */
export function Invitations() {
	const queries = useQueryClient();
	const go = useNavigate();
	const all = useQuery<Invited[]>({
		queryKey: key,
		queryFn: () => [],
		initialData: [],
		staleTime: Number.POSITIVE_INFINITY,
	});
	const drop = (i: Invited) => queries.setQueryData<Invited[]>(key, (old = []) => old.filter((o) => o !== i));
	return all.data.map((i) => (
		<div
			key={i.device}
			role="status"
			className="flex items-center gap-3 border-line border-b bg-heather-tint px-5 py-1.5"
		>
			<p className="min-w-0 flex-1">
				<span className="font-medium">{i.from}</span>{" "}
				{i.hand_over ? "hands you the screen of" : "asks you to join them at the screen of"}{" "}
				<span className="font-medium">{i.device_name}</span>.
			</p>
			<button
				type="button"
				className="button"
				onClick={() => {
					const desktop = i.desktop ? `&desktop=${encodeURIComponent(i.desktop)}` : "";
					drop(i);
					go(`/devices/${i.device}?pane=screen${desktop}`);
				}}
			>
				Open it
			</button>
			<button type="button" className="button-quiet" onClick={() => drop(i)}>
				Not now
			</button>
		</div>
	));
}
