import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { answer, api, type Device, type Schemas } from "../api/client";
import { useMay } from "../api/me";
import { read } from "../api/queries";
import { Confirm } from "../parts/Confirm";
import { AreaField, TextField } from "../parts/fields";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Ago, span, useNow } from "../parts/time";
import { Pane, useAction } from "./Pane";

/** Who is at the device, how to reach them, and whether it runs. */
export function PeoplePane({ device, onClose }: { device: Device; onClose: () => void }) {
	const see = useMay("people.see");
	const power = useMay("power.act");
	return (
		<Pane
			title="People and power"
			onClose={onClose}
			noticed="The person at the device sees a message, or loses their session."
		>
			<div className="space-y-5 overflow-auto px-3 py-2">
				{see && device.capabilities.includes("people") && <People device={device} />}
				{power && device.capabilities.includes("power") && <Power device={device} />}
			</div>
		</Pane>
	);
}

function People({ device }: { device: Device }) {
	const act = useMay("people.act");
	const power = useMay("power.act") && device.capabilities.includes("power");
	const list = useQuery({
		...read("/devices/{id}/people", { path: { id: device.id } }),
		refetchInterval: 15_000,
		enabled: device.online,
	});
	const action = useAction(
		(body: Schemas["PowerAction"]) =>
			answer(api.POST("/devices/{id}/power", { params: { path: { id: device.id } }, body })),
		() => list.refetch(),
	);
	return (
		<section>
			<h3 className="mb-1 font-semibold">Signed in</h3>
			{list.isPending && device.online && <Waiting what="who is signed in" />}
			{list.isError && <ProblemAlert error={list.error} retry={() => list.refetch()} />}
			{list.data?.items.length === 0 && <p className="text-faint">Nobody.</p>}
			{list.data?.items.map((p) => (
				<p key={p.session} className="flex flex-wrap items-center gap-x-2">
					<span className="font-medium">{p.name}</span>
					<span className="text-faint">
						{p.kind === "console"
							? "at the device"
							: p.kind === "remote"
								? `from ${p.where}`
								: `in a terminal (${p.where})`}
						{p.since && (
							<>
								{" "}
								for <Ago at={p.since} suffix="" />
							</>
						)}
						{p.locked
							? ", screen locked"
							: p.idle_seconds >= 60
								? `, idle ${span(p.idle_seconds)}`
								: p.idle_seconds >= 0
									? ", active"
									: ""}
					</span>
					{power && (
						<span className="ml-auto">
							<Confirm
								label="Lock"
								title={`Lock the session of ${p.name}?`}
								verb="Lock it"
								disabled={action.busy}
								onDo={() => action.act({ action: "lock", session: p.session })}
							>
								<p>Their screen on {device.name} asks for the password. Nothing is lost.</p>
							</Confirm>
							<Confirm
								label="Sign out"
								title={`Sign ${p.name} out?`}
								verb="Sign them out"
								disabled={action.busy}
								onDo={() => action.act({ action: "log-off", session: p.session })}
							>
								<p>Every program of theirs on {device.name} ends. What they have not saved is lost.</p>
							</Confirm>
						</span>
					)}
				</p>
			))}
			{action.said}
			{act && list.data && list.data.items.length > 0 && <Message device={device} means={list.data.means} />}
			{act && list.data?.items.some((p) => p.graphic) && <Clipboard device={device} />}
		</section>
	);
}

const answers = [["OK"], ["Yes", "No"], ["Now", "Later"]];

function Message({ device, means }: { device: Device; means?: string }) {
	const [text, setText] = useState("");
	const [buttons, setButtons] = useState(0);
	const action = useAction(async (body: Schemas["Message"]) => {
		const a = await answer(api.POST("/devices/{id}/messages", { params: { path: { id: device.id } }, body }));
		if (a.answer) return { message: `${a.by || "They"} answered “${a.answer}” after ${span(a.after_seconds)}.` };
		return { message: a.shown ? `${a.by || "They"} saw it: ${a.reason}.` : `It was not shown: ${a.reason}` };
	});
	if (means !== "dialog")
		return <p className="mt-2 text-faint">No message can be shown here: nobody is at a desktop.</p>;
	return (
		<form
			className="mt-3 space-y-2"
			onSubmit={(e) => {
				e.preventDefault();
				action.act({ text, buttons: answers[buttons], seconds: 120 });
			}}
		>
			<h3 className="font-semibold">Message to the person</h3>
			<AreaField label="Message" hidden className="h-16" maxLength={4000} value={text} onChange={setText} />
			<div className="flex items-center gap-2">
				<label className="flex items-center gap-1.5 text-sm">
					Answers
					<select
						className="field w-auto py-0.5 text-sm"
						value={buttons}
						onChange={(e) => setButtons(Number(e.target.value))}
					>
						{answers.map((a, i) => (
							<option key={a.join()} value={i}>
								{a.join(" / ")}
							</option>
						))}
					</select>
				</label>
				<button type="submit" className="button" disabled={!text.trim() || action.busy}>
					{action.busy ? "Waiting for an answer…" : "Show it"}
				</button>
				<span className="text-faint text-sm">stays for two minutes</span>
			</div>
			{action.said}
		</form>
	);
}

function Clipboard({ device }: { device: Device }) {
	const [text, setText] = useState("");
	const action = useAction((body: Schemas["Clip"]) =>
		answer(api.POST("/devices/{id}/clipboard", { params: { path: { id: device.id } }, body })),
	);
	return (
		<form
			className="mt-3 space-y-2"
			onSubmit={(e) => {
				e.preventDefault();
				action.act({ text });
			}}
		>
			<h3 className="font-semibold">Text for their clipboard</h3>
			<div className="flex gap-2">
				<TextField label="Text for the clipboard" hidden value={text} onChange={setText} />
				<button type="submit" className="button-quiet whitespace-nowrap" disabled={!text || action.busy}>
					Put it there
				</button>
			</div>
			{action.said}
		</form>
	);
}

const powers = [
	{ action: "restart", label: "Restart", will: "restarts" },
	{ action: "off", label: "Shut down", will: "shuts down, and must be switched on by hand or woken" },
	{
		action: "firmware",
		label: "Restart into firmware",
		will: "restarts into its firmware's settings, and waits there for somebody",
	},
	{ action: "recovery", label: "Restart into recovery", will: "restarts into its recovery or safe mode" },
] as const;

function Power({ device }: { device: Device }) {
	const administer = useMay("power.administer");
	const [delay, setDelay] = useState(0);
	const [message, setMessage] = useState("");
	const [left, setLeft] = useState<number>();
	const now = useNow();
	const action = useAction(async (body: Schemas["PowerAction"]) => {
		const out = await answer(api.POST("/devices/{id}/power", { params: { path: { id: device.id } }, body }));
		setLeft(body.action === "cancel" || body.action === "off" ? undefined : Date.now());
		return out;
	});
	const [back, setBack] = useState<number>();
	// What was restarted is watched until it is back.
	useEffect(() => {
		if (left && device.online && Date.parse(device.since) > left) {
			setBack((Date.parse(device.since) - left) / 1000);
			setLeft(undefined);
		}
	}, [left, device.online, device.since]);
	const people = device.people.length;
	return (
		<section>
			<h3 className="mb-1 font-semibold">Power</h3>
			<div className="mb-2 flex flex-wrap items-center gap-2">
				<label className="flex items-center gap-1.5 text-sm">
					In
					<select
						className="field w-auto py-0.5 text-sm"
						value={delay}
						onChange={(e) => setDelay(Number(e.target.value))}
					>
						<option value={0}>no time</option>
						<option value={60}>1 minute</option>
						<option value={300}>5 minutes</option>
						<option value={900}>15 minutes</option>
					</select>
				</label>
				<TextField
					label="What the person is told"
					hidden
					className="max-w-72 py-0.5"
					placeholder="What the person is told"
					value={message}
					onChange={setMessage}
				/>
			</div>
			<div className="flex flex-wrap gap-1">
				{powers.slice(0, administer ? 4 : 2).map((p) => (
					<Confirm
						key={p.action}
						label={p.label}
						title={`${p.label}: ${device.name}?`}
						verb={p.label}
						disabled={action.busy || !device.online}
						onDo={() =>
							action.act({ action: p.action, delay_seconds: delay || undefined, message: message || undefined })
						}
					>
						<p>
							{device.name} {p.will}
							{delay > 0 ? ` in ${span(delay)}` : " now"}.
						</p>
						<p>
							{people === 0
								? "Nobody is signed in."
								: `${device.people.join(", ")} ${people === 1 ? "is" : "are"} signed in: what they have not saved is lost.`}
						</p>
					</Confirm>
				))}
				<button
					type="button"
					className="button-quiet"
					disabled={action.busy || !device.online}
					onClick={() => action.act({ action: "cancel" })}
				>
					Call off
				</button>
			</div>
			{action.said}
			{left && (
				<p role="status" className="px-3 py-1.5 text-faint">
					{device.online ? "It is still connected." : "It has gone."} Waiting for it to come back, for{" "}
					{span((now - left) / 1000)} so far. You may leave this page.
				</p>
			)}
			{back && (
				<p role="status" className="px-3 py-1.5 text-moss">
					It is back, after {span(back)}.
				</p>
			)}
		</section>
	);
}
