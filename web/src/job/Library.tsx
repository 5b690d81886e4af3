import { useMutation } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { useSearchParams } from "react-router";
import { useMayEverywhere } from "../api/me";
import { useReadAnew } from "../api/queries";
import { Confirm } from "../parts/Confirm";
import { useEdited } from "../parts/edited";
import { Heading } from "../parts/Heading";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { More, type Pages } from "../parts/Table";
import { Ago } from "../parts/time";

/** What stands in a library: it has a name, a file that says what it is, and a last change. */
type Entry = { id: string; content: { name: string }; file: string; changed_at: string; changed_by: string };

type List<T> = Pages & { rows: T[]; data: unknown; isPending: boolean; error: unknown; refetch: () => unknown };

/** A library: its entries at the left; at the right the chosen one, or the form that makes or changes one. */
export function Library<T extends Entry>({
	of,
	list,
	remove,
	file,
	removal,
	empty,
	title = (t) => t.content.name,
	note,
	version,
	actions,
	form,
	children,
}: {
	of: "script" | "package";
	list: List<T>;
	remove: (id: string) => Promise<unknown>;
	file: { type: string; ending: string }; // what an entry is saved as
	removal: string; // what its removal leaves
	empty: string; // what a library that is empty is for
	title?: (t: T) => string;
	note: (t: T) => ReactNode; // below its name in the list
	version?: (t: T) => string;
	actions?: (t: T) => ReactNode;
	form: (of: T | undefined, onDone: (made?: T) => void) => ReactNode;
	children: (t: T) => ReactNode; // what the chosen one is
}) {
	const [params, setParams] = useSearchParams();
	const readAnew = useReadAnew(`/${of}s/*`);
	const may = useMayEverywhere(`${of}s.administer`);
	const [editing, setEditing] = useEdited<T>();
	const chosen = list.rows.find((t) => t.id === params.get(of)) ?? list.rows[0];
	const choose = (t: T) => setParams({ [of]: t.id }, { replace: true });
	const removing = useMutation({ mutationFn: remove, onSuccess: readAnew });
	return (
		<div className="flex h-full flex-col">
			<Heading title={of === "script" ? "Scripts" : "Packages"}>
				{may && (
					<button type="button" className="button ml-auto" onClick={() => setEditing("new")}>
						New {of}
					</button>
				)}
			</Heading>
			{list.isPending && <Waiting what="the library" />}
			{!!list.error && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
			{!!list.data && list.rows.length === 0 && !editing && <Empty title={`There is no ${of} yet.`}>{empty}</Empty>}
			{(list.rows.length > 0 || editing) && (
				<div className="grid min-h-0 flex-1 grid-cols-[17rem_minmax(0,1fr)]">
					<nav aria-label="Library" className="overflow-auto border-line border-r py-2">
						{list.rows.map((t) => (
							<button
								key={t.id}
								type="button"
								aria-current={t.id === chosen?.id}
								className={`block w-full px-5 py-1.5 text-left ${t.id === chosen?.id ? "bg-heather-tint font-medium" : "hover:bg-panel"}`}
								onClick={() => {
									setEditing(undefined);
									choose(t);
								}}
							>
								{t.content.name}
								<span className="block text-faint text-sm">{note(t)}</span>
							</button>
						))}
						<More list={list} />
					</nav>
					<div className="min-w-0 overflow-auto p-5" key={editing ? "form" : chosen?.id}>
						{editing
							? form(editing === "new" ? undefined : editing, (made) => {
									setEditing(undefined);
									readAnew();
									if (made) choose(made);
								})
							: chosen && (
									<>
										<div className="flex flex-wrap items-center gap-3">
											<h2 className="font-semibold text-lg">{title(chosen)}</h2>
											<span className="text-faint">
												{version?.(chosen)} <Ago at={chosen.changed_at} /> by {chosen.changed_by}
											</span>
											<span className="ml-auto flex gap-1">
												{actions?.(chosen)}
												{may && (
													<>
														<button type="button" className="button-quiet" onClick={() => setEditing(chosen)}>
															Change
														</button>
														<a
															className="button-quiet"
															href={`data:${file.type};charset=utf-8,${encodeURIComponent(chosen.file)}`}
															download={`${chosen.content.name}.${file.ending}`}
														>
															Save as file
														</a>
														<Confirm
															label="Remove"
															title={`Remove ${chosen.content.name} from the library?`}
															verb="Remove it"
															onDo={() => removing.mutate(chosen.id)}
														>
															{removal}
														</Confirm>
													</>
												)}
											</span>
										</div>
										{removing.isError && <ProblemAlert error={removing.error} />}
										{children(chosen)}
									</>
								)}
					</div>
				</div>
			)}
		</div>
	);
}
