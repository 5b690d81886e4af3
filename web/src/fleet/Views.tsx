import { Popover, PopoverButton, PopoverPanel } from "@headlessui/react";
import { XMarkIcon } from "@heroicons/react/16/solid";
import { BookmarkIcon } from "@heroicons/react/20/solid";
import { useState } from "react";
import { TextField } from "../parts/fields";
import { useKept } from "../parts/kept";
import { type Choice, fromParams, toParams } from "./choice";

type View = { name: string; picked: string };

/** What one picks again and again, by a name: kept on this computer. */
export function Views({ choice, onChange }: { choice: Choice; onChange: (c: Choice) => void }) {
	const [views, setViews] = useKept<View[]>("moorwatch views", []);
	const [name, setName] = useState("");
	const picked = toParams(choice).toString();
	return (
		<Popover>
			<PopoverButton className="button-quiet">
				<BookmarkIcon className="size-4" aria-hidden="true" /> Views
			</PopoverButton>
			<PopoverPanel
				anchor={{ to: "bottom end", gap: 4 }}
				className="z-30 w-72 rounded-md border border-line bg-raised p-2 shadow-lg"
			>
				{({ close }) => (
					<>
						{views.length === 0 && <p className="px-2 py-1 text-faint">Keep what is picked under a name.</p>}
						<ul>
							{views.map((v) => (
								<li key={v.name} className="flex items-center rounded hover:bg-panel">
									<button
										type="button"
										className={`min-w-0 flex-1 truncate px-2 py-1 text-left ${v.picked === picked ? "font-medium" : ""}`}
										onClick={() => {
											onChange(fromParams(new URLSearchParams(v.picked)));
											close();
										}}
									>
										{v.name}
									</button>
									<button
										type="button"
										aria-label={`Forget ${v.name}`}
										className="p-1 text-faint hover:text-word"
										onClick={() => setViews(views.filter((o) => o !== v))}
									>
										<XMarkIcon className="size-4" />
									</button>
								</li>
							))}
						</ul>
						{picked && (
							<form
								className="mt-1 flex items-end gap-2 border-line border-t px-2 pt-2"
								onSubmit={(e) => {
									e.preventDefault();
									setViews([...views.filter((v) => v.name !== name.trim()), { name: name.trim(), picked }]);
									setName("");
								}}
							>
								<TextField label="Keep as" required maxLength={60} value={name} onChange={setName} />
								<button type="submit" className="button" disabled={!name.trim()}>
									Keep
								</button>
							</form>
						)}
					</>
				)}
			</PopoverPanel>
		</Popover>
	);
}
