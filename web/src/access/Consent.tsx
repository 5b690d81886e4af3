import { useMutation, useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { useMay } from "../api/me";
import { read, useReadAnew } from "../api/queries";
import { tools } from "../bench/tools";
import { ScopeField, scopeText } from "../fleet/scope";
import { Editor, RowActions } from "../parts/Editor";
import { CheckField, SelectField } from "../parts/fields";
import { Labelled } from "../parts/Labelled";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";

type Rule = Schemas["ConsentRule"];

const modes = {
	silent: "are not told",
	tell: "see who works on it, and may end it",
	ask: "are asked first",
	blur: "are not told; it is blurred",
	forbid: "are not shown at all",
} as const;

/** What a rule of the wall, about which nobody is asked, may say, and one of another tool. */
const modesOf = (tool: string) =>
	tool === "wall" ? (["silent", "blur", "forbid"] as const) : (["silent", "tell", "ask"] as const);

/** How people take part in sessions at their devices. */
export function Consent() {
	const may = useMay("policy.manage");
	const [edited, setEdited] = useState<Rule | "new">();
	const [failed, setFailed] = useState<unknown>();
	const list = useQuery(read("/consent-rules", { query: { limit: 500 } }));
	const again = useReadAnew("/consent-rules");
	const remove = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/consent-rules/{id}", { params: { path: { id } } })),
		onError: setFailed,
		onSettled: again,
	});
	return (
		<div className="mx-auto max-w-5xl px-5 py-5">
			<h1 className="text-xl font-semibold">Consent</h1>
			<p className="mb-4 text-faint">
				Whether the person at a device is told or asked when somebody works on it. The rule nearest to the device
				counts; where there is none, quiet tools are silent.
			</p>
			{may && !edited && (
				<button type="button" className="button mb-4" onClick={() => setEdited("new")}>
					New rule
				</button>
			)}
			{edited && (
				<RuleForm
					key={edited === "new" ? "new" : edited.id}
					rule={edited === "new" ? undefined : edited}
					onDone={() => {
						setEdited(undefined);
						again();
					}}
				/>
			)}
			{failed !== undefined && <ProblemAlert error={failed} />}
			{list.isPending && <Waiting what="the rules" />}
			{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
			{list.data && list.data.items.length > 0 && (
				<Table
					rows={list.data.items}
					id={(r) => r.id}
					columns={[
						{
							head: "At",
							className: "font-medium",
							value: (r) => scopeText(r.scope, r.scope_name),
							show: (r) => scopeText(r.scope, r.scope_name),
						},
						{ head: "With", show: (r) => toolTitle(r.tool) },
						{
							head: "The people there",
							show: (r) => (
								<>
									{modes[r.mode as keyof typeof modes]}
									{r.mode === "ask" && `, for ${r.seconds || 30} s`}
								</>
							),
						},
						{ head: "No answer", show: (r) => (r.mode === "ask" ? (r.unanswered ? "begins" : "is refused") : "") },
						{ head: "Nobody there", show: (r) => (r.mode === "ask" ? (r.absent ? "begins" : "is refused") : "") },
						{
							head: "",
							actions: true,
							show: (r) =>
								may && (
									<RowActions
										name={`the rule for ${r.scope_name}`}
										onChange={() => setEdited(r)}
										onRemove={() => remove.mutate(r.id)}
									/>
								),
						},
					]}
				/>
			)}
			{list.data?.items.length === 0 && !edited && (
				<p className="text-faint">
					There is no rule yet: all work is silent, but people are asked before their screen is seen, and the wall shows
					it blurred.
				</p>
			)}
		</div>
	);
}

function toolTitle(name: string) {
	if (!name) return "every tool";
	return tools.find((t) => t.pane === name)?.title ?? name[0]?.toUpperCase() + name.slice(1);
}

const names = [
	"command",
	"shell",
	"files",
	"processes",
	"services",
	"events",
	"network",
	"settings",
	"queries",
	"screen",
	"wall",
	"people",
	"power",
];

function RuleForm({ rule, onDone }: { rule?: Rule; onDone: () => void }) {
	const [scope, setScope] = useState<Schemas["Scope"]>(rule?.scope ?? { kind: "everywhere" });
	const [tool, setTool] = useState(rule?.tool ?? "");
	const [mode, setMode] = useState<keyof typeof modes>((rule?.mode as keyof typeof modes) ?? "ask");
	const [seconds, setSeconds] = useState(rule?.seconds || 30);
	const [unanswered, setUnanswered] = useState(rule?.unanswered ?? false);
	const [absent, setAbsent] = useState(rule?.absent ?? true);
	const [unrecorded, setUnrecorded] = useState(rule?.unrecorded ?? false);
	const [keep, setKeep] = useState(rule?.keep_days ?? 180);
	const save = useMutation({
		mutationFn: () => {
			const body = {
				scope,
				tool: tool || undefined,
				mode,
				unrecorded,
				keep_days: keep,
				seconds: mode === "ask" ? seconds : undefined,
				unanswered,
				absent,
			};
			if (rule) return answer(api.PUT("/consent-rules/{id}", { params: { path: { id: rule.id } }, body }));
			return answer(api.POST("/consent-rules", { body }));
		},
		onSuccess: onDone,
	});
	return (
		<Editor save={save} onCancel={onDone}>
			<div className="flex flex-wrap items-end gap-3">
				<ScopeField scope={scope} onChange={setScope} />
				<SelectField
					label="With"
					className="w-44"
					value={tool}
					onChange={(v) => {
						setTool(v);
						if (!modesOf(v).some((m) => m === mode)) setMode(v === "wall" ? "blur" : "ask");
					}}
				>
					<option value="">every tool</option>
					{names.map((n) => (
						<option key={n} value={n}>
							{toolTitle(n)}
						</option>
					))}
				</SelectField>
				<SelectField
					label="The people there"
					className="w-72"
					value={mode}
					onChange={(v) => setMode(v as keyof typeof modes)}
				>
					{modesOf(tool)
						.map((m) => [m, modes[m]] as const)
						.map(([m, words]) => (
							<option key={m} value={m}>
								{words}
							</option>
						))}
				</SelectField>
				{mode === "ask" && (
					<Labelled label="Seconds to answer">
						<input
							className="field w-24"
							type="number"
							min={10}
							max={300}
							value={seconds}
							onChange={(e) => setSeconds(Number(e.target.value))}
						/>
					</Labelled>
				)}
			</div>
			{mode === "ask" && (
				<div className="flex flex-wrap gap-5">
					<Tick on={unanswered} onTurn={setUnanswered}>
						It may begin when nobody answers
					</Tick>
					<Tick on={absent} onTurn={setAbsent}>
						It may begin when nobody is there, or every screen is locked
					</Tick>
				</div>
			)}
			{["", "shell", "screen"].includes(tool) && (
				<div className="flex flex-wrap items-center gap-5">
					<Tick on={unrecorded} onTurn={setUnrecorded}>
						Shells and screens are not recorded
					</Tick>
					{!unrecorded && (
						<label className="flex items-center gap-1.5">
							Recordings are kept for
							<input
								className="field w-20 py-1"
								type="number"
								min={1}
								max={3660}
								value={keep}
								onChange={(e) => setKeep(Number(e.target.value))}
							/>
							days
						</label>
					)}
				</div>
			)}
		</Editor>
	);
}

/** One thing that is so or is not. */
function Tick({ on, onTurn, children }: { on: boolean; onTurn: (on: boolean) => void; children: ReactNode }) {
	return (
		<CheckField className="flex items-center gap-1.5" checked={on} onChange={onTurn}>
			{children}
		</CheckField>
	);
}
