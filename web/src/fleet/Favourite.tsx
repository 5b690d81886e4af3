import { StarIcon as Outline } from "@heroicons/react/24/outline";
import { StarIcon as Solid } from "@heroicons/react/24/solid";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { answer, api, type Device } from "../api/client";
import { readAnew } from "../api/queries";
import { devicesQuery } from "./devices";

/** Makes a device one of one's favourites, or takes it back. */
export function Favourite({ device: d }: { device: Device }) {
	const queries = useQueryClient();
	const turn = useMutation({
		mutationFn: (on: boolean) => {
			const params = { params: { path: { id: d.id } } };
			return answer(on ? api.PUT("/favourites/{id}", params) : api.DELETE("/favourites/{id}", params));
		},
		onSuccess: () => {
			readAnew(queries, "/devices/{id}", { id: d.id });
			queries.invalidateQueries({ queryKey: devicesQuery.queryKey });
		},
	});
	const Glyph = d.favourite ? Solid : Outline;
	return (
		<button
			type="button"
			aria-pressed={d.favourite ?? false}
			aria-label="Favourite"
			title={d.favourite ? "One of your favourites" : "Make it a favourite"}
			className={d.favourite ? "text-heather" : "text-faint hover:text-heather"}
			disabled={turn.isPending}
			onClick={() => turn.mutate(!d.favourite)}
		>
			<Glyph className="size-5" aria-hidden="true" />
		</button>
	);
}
