import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../api/client";
import { ProblemAlert } from "../parts/ProblemAlert";

/** What was done, for the record, when a session is over. */
export function Ending({ session, onDone, onStay }: { session: string; onDone: () => void; onStay?: () => void }) {
	const [note, setNote] = useState("");
	const keep = useMutation({
		mutationFn: () => answer(api.PUT("/sessions/{id}/note", { params: { path: { id: session } }, body: { note } })),
		onSuccess: onDone,
	});
	return (
		<form
			className="mt-2 space-y-2"
			onSubmit={(e) => {
				e.preventDefault();
				keep.mutate();
			}}
		>
			<label className="block">
				<span className="font-medium">What was done?</span>{" "}
				<span className="text-faint text-sm">It stands with the session on record.</span>
				<textarea
					className="field mt-1 min-h-16 w-full"
					maxLength={2000}
					value={note}
					onChange={(e) => setNote(e.target.value)}
				/>
			</label>
			<div className="flex gap-2">
				<button type="submit" className="button" disabled={!note.trim() || keep.isPending}>
					{onStay ? "Keep the note, and leave" : "Keep the note"}
				</button>
				<button type="button" className="button-quiet" onClick={onDone}>
					{onStay ? "Leave without a note" : "No note"}
				</button>
				{onStay && (
					<button type="button" className="button-quiet ml-auto" onClick={onStay}>
						Stay
					</button>
				)}
			</div>
			{keep.isError && <ProblemAlert error={keep.error} />}
		</form>
	);
}
