import { useState } from "react";
import type { Schemas } from "../api/client";
import { sweep } from "../api/lines";
import { useBrought } from "../fleet/chosen";
import { useGroups } from "../fleet/Groups";
import { nothing, PickField, targetOf } from "../fleet/PickField";
import { SelectField, TextField } from "../parts/fields";
import { ProblemAlert } from "../parts/ProblemAlert";
import { Answers, useAnswers } from "./Answers";

type Kind = Schemas["Question"]["kind"];

const questions: { kind: Kind; label: string; hint: string }[] = [
	{ kind: "process", label: "Processes of a name", hint: "fenprint*" },
	{ kind: "service", label: "State of a service", hint: "Spooler" },
	{ kind: "port", label: "What listens on a port", hint: "445" },
	{ kind: "file", label: "A file, and its digest", hint: "C:\\Windows\\System32\\fenprint.dll" },
	{ kind: "item", label: "An item of the inventory", hint: "Fennick Print Driver" },
	{ kind: "registry", label: "A value of the registry", hint: "HKLM\\SOFTWARE\\Fennick\\Print\\Version" },
	{ kind: "log-on", label: "Who is signed in, and how long it took", hint: "" },
	{ kind: "fact", label: "A fact", hint: "kernel" },
];

/** A question put to all online devices of a group, answered as they reply. */
export function Sweep() {
	const [kind, setKind] = useState<Kind>("item");
	const [name, setName] = useState("");
	const [choice, setChoice] = useState(useBrought());
	const groups = useGroups().data;
	const { result, error, running, start: begin, stop } = useAnswers();
	const question = questions.find((q) => q.kind === kind);
	const start = () =>
		begin((signal, onEvent) =>
			sweep(
				{
					question: { kind, name, digest: kind === "file" },
					...targetOf(choice, groups),
				},
				signal,
				onEvent,
			),
		);
	return (
		<div className="mx-auto max-w-6xl px-5 py-5">
			<h1 className="text-xl font-semibold">Sweep</h1>
			<p className="mb-3 text-faint">Ask online devices something, now. Nobody at a device notices.</p>
			<form
				className="mb-5 space-y-3 rounded-md border border-line bg-panel p-4"
				onSubmit={(e) => {
					e.preventDefault();
					start();
				}}
			>
				<div className="flex flex-wrap items-end gap-3">
					<SelectField label="Question" className="w-72" value={kind} onChange={setKind}>
						{questions.map((q) => (
							<option key={q.kind} value={q.kind}>
								{q.label}
							</option>
						))}
					</SelectField>
					{kind !== "log-on" && (
						<TextField
							label="Name"
							hidden
							className="w-96 font-mono text-sm"
							required
							placeholder={question?.hint}
							maxLength={1000}
							value={name}
							onChange={setName}
						/>
					)}
					{running ? (
						<button type="button" className="button" onClick={stop}>
							Stop
						</button>
					) : (
						<button type="submit" className="button" disabled={nothing(choice)}>
							Ask
						</button>
					)}
				</div>
				<PickField choice={choice} onChange={setChoice} label="Of which devices" />
			</form>
			{error !== undefined && <ProblemAlert error={error} />}
			{result && <Answers result={result} />}
		</div>
	);
}
