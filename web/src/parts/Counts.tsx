/** A state with its word and colours: of the bar, and of text. */
export type State = readonly [state: string, word: string, fill: string, text: string];

/** The word and the colour of a state, by its name; what is not known is told as it is. */
export const wordOf = (of: readonly State[]) => (state: string) => of.find(([s]) => s === state)?.[1] ?? state;
export const colourOf = (of: readonly State[]) => (state: string) => of.find(([s]) => s === state)?.[3] ?? "";

/** How many are in which state, as a bar and in words. */
export function Counts({
	of: states,
	counts,
	none,
	words = true,
}: {
	of: readonly State[];
	counts: Record<string, number>;
	none: string; // said where there are none
	words?: boolean;
}) {
	const all = Object.values(counts).reduce((a, b) => a + b, 0) || 1;
	const there = states.filter(([s]) => (counts[s] ?? 0) > 0);
	if (there.length === 0) return <span className="text-faint text-sm">{none}</span>;
	return (
		<div>
			<div className="flex h-2 w-full overflow-hidden rounded-full bg-line" aria-hidden="true">
				{there.map(([s, , fill]) => (
					<span key={s} className={fill} style={{ width: `${(100 * (counts[s] ?? 0)) / all}%` }} />
				))}
			</div>
			{words && (
				<p className="mt-1 flex flex-wrap gap-x-4 text-sm tabular-nums">
					{there.map(([s, word, , text]) => (
						<span key={s} className={text}>
							{counts[s]} {word}
						</span>
					))}
				</p>
			)}
		</div>
	);
}
