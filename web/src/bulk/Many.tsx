import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { answer, api, type Device, type Schemas } from "../api/client";
import { lines } from "../api/lines";
import { meQuery } from "../api/me";
import { send } from "../files/transfers";
import { useBrought } from "../fleet/chosen";
import { useGroups } from "../fleet/Groups";
import { nothing, PickField, targetOf } from "../fleet/PickField";
import { Confirm } from "../parts/Confirm";
import { SelectField } from "../parts/fields";
import { Empty, ProblemAlert } from "../parts/ProblemAlert";
import { Answers, useAnswers } from "./Answers";

type Action = Omit<Schemas["ManyAction"], "where" | "group" | "preview">;

const kinds: {
	kind: string;
	label: string;
	hint: string;
	needs: string;
	noticed?: boolean;
	action: (text: string) => Action;
}[] = [
	{
		kind: "command",
		label: "Run a command",
		hint: "uptime",
		needs: "command.act",
		action: (text) => ({ command: { argv: [text], line: true } }),
	},
	{
		kind: "restart-service",
		label: "Restart a service",
		hint: "Spooler",
		needs: "services.act",
		action: (name) => ({ service: { action: "restart", name } }),
	},
	{
		kind: "start-service",
		label: "Start a service",
		hint: "Spooler",
		needs: "services.act",
		action: (name) => ({ service: { action: "start", name } }),
	},
	{
		kind: "stop-service",
		label: "Stop a service",
		hint: "FaxRelay",
		needs: "services.act",
		action: (name) => ({ service: { action: "stop", name } }),
	},
	{
		kind: "end",
		label: "End processes of a name",
		hint: "heron.exe",
		needs: "processes.act",
		action: (name) => ({ process: { action: "end", pid: 0, name } }),
	},
	{
		kind: "query",
		label: "Ask a query",
		hint: 'service where state == "failed" show name',
		needs: "queries.see",
		action: (query) => ({ query: { text: query } }),
	},
	{
		kind: "setting",
		label: "Set a setting",
		hint: "kernel/vm/swappiness = 10",
		needs: "settings.act",
		action: (line) => ({ setting: settingOf(line) }),
	},
	{
		kind: "file",
		label: "Send a file",
		hint: "where it is to stand, such as /etc/records/sync.conf",
		needs: "files.act",
		action: () => ({}),
	},
	{
		kind: "message",
		label: "Show a message",
		hint: "The catalogue is back.",
		needs: "people.act",
		noticed: true,
		action: (text) => ({ message: { text, seconds: 110 } }),
	},
	{
		kind: "restart",
		label: "Restart the devices",
		hint: "what the people there are told",
		needs: "power.act",
		noticed: true,
		action: (message) => ({ power: { action: "restart", message } }),
	},
	{
		kind: "off",
		label: "Shut the devices down",
		hint: "what the people there are told",
		needs: "power.act",
		noticed: true,
		action: (message) => ({ power: { action: "off", message } }),
	},
];

/** Reads "store/folder/name = value"; a path with backslashes is parted at those. */
function settingOf(line: string): Schemas["SettingAction"] {
	const at = line.indexOf("=");
	const place = (at < 0 ? line : line.slice(0, at)).trim();
	const value = at < 0 ? "" : line.slice(at + 1).trim();
	const path = place.split(place.includes("\\") ? "\\" : "/").filter(Boolean);
	const name = path.pop() ?? "";
	return { action: "set", path, name, value, type: /^[0-9]+$/.test(value) ? "number" : "text", any: true };
}

/** The devices that are meant and take files, and the names of the others. */
async function takers(target: { where?: string; group?: string }) {
	const ready: Device[] = [];
	const offline: string[] = [];
	let cursor: string | undefined;
	do {
		const query = { ...target, limit: 500, cursor };
		const page = await answer(api.GET("/devices", { params: { query } }));
		for (const d of page.items)
			if (d.online && d.capabilities.includes("files")) ready.push(d);
			else offline.push(d.name);
		cursor = page.next;
	} while (cursor);
	return { ready, offline };
}

/** One thing done on many devices, now. */
export function Many() {
	const me = useQuery(meQuery).data;
	const may = kinds.filter((k) => me?.permissions.includes(k.needs));
	const [params] = useSearchParams();
	const asked = params.get("query"); // brought from a device's own query
	const [kind, setKind] = useState(asked ? "query" : (params.get("kind") ?? "command"));
	const [text, setText] = useState(asked ?? "");
	const [file, setFile] = useState<File>();
	const [to, setTo] = useState<Device[]>([]);
	const [choice, setChoice] = useState(useBrought());
	const groups = useGroups().data;
	const [count, setCount] = useState<{ n: number; offline: string[] }>();
	const [problem, setProblem] = useState<unknown>();
	const { result, error, running, start, stop } = useAnswers();
	const one = may.find((k) => k.kind === kind) ?? may[0];
	const target = targetOf(choice, groups);
	const body = { ...one?.action(text), ...target };
	const preview = async () => {
		setCount(undefined);
		setProblem(undefined);
		try {
			if (one?.kind === "file") {
				const { ready, offline } = await takers(target);
				setTo(ready);
				setCount({ n: ready.length, offline });
				return;
			}
			await lines<Schemas["SweepEvent"]>(
				"/actions",
				new AbortController().signal,
				(e) => setCount({ n: e.asked ?? 0, offline: e.offline ?? [] }),
				{ ...body, preview: true },
			);
		} catch (e) {
			setProblem(e);
		}
	};
	if (me && !one)
		return <Empty title="There is nothing that you may do on many devices.">Ask an owner for a role that may.</Empty>;
	return (
		<div className="mx-auto max-w-6xl px-5 py-5">
			<h1 className="text-xl font-semibold">Do now</h1>
			<p className="mb-3 text-faint">
				Do one thing on many online devices, now.{" "}
				{one?.noticed ? "The people at the devices notice it." : "Nobody at a device notices."}
			</p>
			<div className="mb-5 space-y-3 rounded-md border border-line bg-panel p-4">
				<div className="flex flex-wrap items-end gap-3">
					<SelectField label="Action" className="w-60" value={one?.kind} onChange={setKind}>
						{may.map((k) => (
							<option key={k.kind} value={k.kind}>
								{k.label}
							</option>
						))}
					</SelectField>
					<input
						aria-label="What"
						className="field w-96 font-mono text-sm"
						placeholder={one?.hint}
						maxLength={4000}
						value={text}
						spellCheck={false}
						onChange={(e) => setText(e.target.value)}
					/>
					{one?.kind === "file" && (
						<input
							type="file"
							aria-label="File"
							className="field w-72"
							onChange={(e) => {
								setFile(e.target.files?.[0]);
								if (!text && e.target.files?.[0]) setText(`/tmp/${e.target.files[0].name}`);
							}}
						/>
					)}
					{running ? (
						<button type="button" className="button" onClick={stop}>
							Stop
						</button>
					) : (
						<Confirm
							label="Do it"
							title={count ? `${one?.label} on ${count.n} devices?` : "On how many devices?"}
							verb={count ? `Do it on ${count.n}` : "Do it"}
							className="button"
							disabled={nothing(choice) || (!text && !one?.noticed) || (one?.kind === "file" && !file)}
							onAsk={preview}
							onDo={() => {
								if (one?.kind !== "file") start((signal, onEvent) => lines("/actions", signal, onEvent, body));
								else if (file) for (const d of to) send(d, text, file, () => {});
							}}
						>
							{problem !== undefined && <ProblemAlert error={problem} />}
							{count && (
								<>
									<p className="font-mono text-sm break-all">{text}</p>
									{one?.kind === "file" && (
										<p>
											{file?.name} is sent there, and checked by its digest. A file of this name that is there stays as
											it is. How far each is stands at the foot of the page.
										</p>
									)}
									{count.offline.length > 0 && (
										<p className="text-faint">
											{count.offline.length} more are silent or do not offer it, and are left out:{" "}
											{count.offline.slice(0, 8).join(", ")}
											{count.offline.length > 8 && "…"}
										</p>
									)}
								</>
							)}
						</Confirm>
					)}
				</div>
				<PickField choice={choice} onChange={setChoice} />
			</div>
			{error !== undefined && <ProblemAlert error={error} />}
			{result && <Answers result={result} failures="failed" />}
		</div>
	);
}
