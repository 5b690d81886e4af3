/** Says that work waits since whoever began it may no longer do it, and lets somebody adopt it. */
export function Unowned({
	what,
	may,
	busy,
	onAdopt,
}: {
	what: "job" | "rollout";
	may: boolean;
	busy: boolean;
	onAdopt: () => void;
}) {
	return (
		<p role="status" className="mt-2 flex items-center gap-3 border-gorse border-l-4 bg-raised px-3 py-1.5">
			<span>
				Whoever began this {what} may no longer do so at all of its devices: there it waits until somebody adopts it.
				From then on it goes on with that person's rights.
			</span>
			{may && (
				<button type="button" className="button whitespace-nowrap" disabled={busy} onClick={onAdopt}>
					Adopt it
				</button>
			)}
		</p>
	);
}
