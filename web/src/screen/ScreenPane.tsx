import { CameraIcon, ChatBubbleLeftIcon, HandRaisedIcon, Squares2X2Icon } from "@heroicons/react/20/solid";
import { useContext, useEffect, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import type { Device } from "../api/client";
import { useMay } from "../api/me";
import { Choice } from "../parts/Editor";
import { save } from "../parts/save";
import { bytes } from "../parts/units";
import { Controls, OnBench, Pane } from "../tools/Pane";
import { Colleagues } from "./Colleagues";
import { readClipboard } from "./clipboard";
import { Ending } from "./Ending";
import type { Showing } from "./marks";
import { KeyMenu, MonitorMenu, OptionsMenu } from "./menus";
import { Notes } from "./Notes";
import { ShowMenu } from "./ShowMenu";
import { State } from "./State";
import { TouchKeys } from "./TouchKeys";
import { useDrop } from "./useDrop";
import { type Seen, useScreen } from "./useScreen";
import { View, type Zoom } from "./View";

const modes = ["view", "share", "take"] as const;
const modeNames = { view: "Look on", share: "Share", take: "Take over" };
const fingers = window.matchMedia("(pointer: coarse)").matches;

/** The screen of a device: seen, shared or taken over. */
export function ScreenPane({ device, onClose }: { device: Device; onClose: () => void }) {
	const { connection, seen, complain, forget } = useScreen(device.id, useSearchParams()[0].get("desktop") ?? undefined);
	const [zoom, setZoom] = useState<Zoom>("fit");
	const [byPlace, setByPlace] = useState(false);
	const [talking, setTalking] = useState(false);
	const [showing, setShowing] = useState<Showing>("");
	const [leaving, setLeaving] = useState(false);
	const [heir, setHeir] = useState<string>(); // who is to have it from me
	const box = useRef<HTMLDivElement>(null);
	const may = useMay("screen.act");
	const go = useNavigate();
	const bench = useContext(OnBench);
	const dropping = useDrop(device, seen.begin?.desktop.files, complain);
	const me = seen.stage?.viewers.find((v) => v.id === seen.begin?.viewer);
	const mode = modes.find((m) => m === me?.mode) ?? "view";
	const open = seen.state.is === "open";
	const unread = seen.notes.length > 0 && !talking;
	const arrived = heir !== undefined && seen.stage?.viewers.some((v) => v.name === heir);
	useEffect(() => {
		if (!arrived) return;
		connection?.takePart("view");
		complain(`${heir} has it now. You look on.`);
		setHeir(undefined);
	}, [arrived, heir, connection, complain]);
	return (
		<Pane
			title="Screen"
			noticed="The person at the device is asked, and sees that you look on."
			onClose={() => (connection?.session && open ? setLeaving(true) : onClose())}
			status={<Status seen={seen} />}
		>
			<div
				data-bar=""
				className="contents @max-2xl:[&>div>*]:shrink-0 @max-2xl:[&>div]:flex-nowrap @max-2xl:[&>div]:overflow-x-auto"
			>
				<Controls>
					{may && (
						<div role="toolbar" aria-label="Part" className="flex">
							<Choice of={modes} chosen={mode} name={(m) => modeNames[m]} onChoose={(m) => connection?.takePart(m)} />
						</div>
					)}
					<MonitorMenu device={device.id} connection={connection} begin={seen.begin} />
					<div role="toolbar" aria-label="Size" className="flex">
						<Choice
							of={["fit", 1] as Zoom[]}
							chosen={zoom}
							name={(z) => (z === "fit" ? "Fit" : "1:1")}
							onChoose={setZoom}
						/>
					</div>
					<OptionsMenu connection={connection} link={seen.link} />
					<KeyMenu
						connection={connection}
						enabled={open && mode !== "view"}
						byPlace={byPlace}
						setByPlace={setByPlace}
						onType={() =>
							readClipboard()
								.then((clip) =>
									clip?.text ? connection?.send({ text: clip.text }) : complain("Your clipboard holds no text."),
								)
								.catch(() => complain("Your browser keeps its clipboard: allow this page to read it."))
						}
						onFull={() => {
							box.current?.requestFullscreen();
							(navigator as { keyboard?: { lock?: () => void } }).keyboard?.lock?.();
						}}
					/>
					{seen.begin?.marks && <ShowMenu connection={connection} showing={showing} onShow={setShowing} />}
					<Colleagues
						device={device.id}
						desktop={seen.begin?.desktop.id}
						onHandOver={(to) => {
							setHeir(to.name);
							complain(`It is handed to ${to.name}: you look on as soon as they are here.`);
						}}
					/>
					<button
						type="button"
						className="button-quiet"
						disabled={!open}
						aria-label="Keep a picture of the screen"
						title="Keep a picture of the screen"
						onClick={async () => {
							const png = await connection?.picture();
							if (png) save(`${device.name} ${new Date().toISOString().slice(0, 19).replaceAll(":", "-")}.png`, png);
						}}
					>
						<CameraIcon className="size-4" aria-hidden="true" />
					</button>
					<button
						type="button"
						className={`button-quiet ${talking ? "bg-heather-tint" : ""}`}
						aria-pressed={talking}
						onClick={() => setTalking(!talking)}
					>
						<ChatBubbleLeftIcon className={`size-4 ${unread ? "text-gorse" : ""}`} aria-hidden="true" />
						Talk
					</button>
					{bench && (
						<button
							type="button"
							className="button-quiet"
							aria-label="Beside other screens"
							title="Beside other screens"
							onClick={() => go(`/screens?of=${device.id}`)}
						>
							<Squares2X2Icon className="size-4" aria-hidden="true" />
						</button>
					)}
					<Hands seen={seen} />
				</Controls>
			</div>
			<div className="relative flex min-h-0 flex-1" {...dropping.handlers}>
				{connection && (
					<View
						device={device.name}
						connection={connection}
						seen={seen}
						zoom={zoom}
						setZoom={setZoom}
						byPlace={byPlace}
						hands={open && mode !== "view"}
						showing={open ? showing : ""}
						complain={complain}
						forget={forget}
						box={box}
					/>
				)}
				<State device={device} seen={seen} session={connection?.session} onAgain={() => connection?.restart()} />
				{leaving && connection?.session && (
					<div className="absolute inset-0 z-20 grid place-items-center bg-black/50 p-4">
						<div className="w-full max-w-md rounded-md border border-line bg-raised px-4 py-3 shadow-lg">
							<h3 className="font-semibold text-lg">Leave the screen of {device.name}?</h3>
							<Ending session={connection.session} onDone={onClose} onStay={() => setLeaving(false)} />
						</div>
					</div>
				)}
				{dropping.over && (
					<p className="pointer-events-none absolute inset-2 grid place-items-center rounded-md border-2 border-heather border-dashed bg-heather-tint/80 font-medium">
						Send to {seen.begin?.desktop.files}
					</p>
				)}
				{seen.problem && (
					<p
						role="status"
						className="absolute inset-x-0 bottom-3 mx-auto w-fit max-w-[90%] rounded-md border border-line bg-raised px-3 py-1.5 shadow-lg"
					>
						{seen.problem}
					</p>
				)}
				{talking && connection && <Notes connection={connection} seen={seen} onClose={() => setTalking(false)} />}
			</div>
			{fingers && connection && open && mode !== "view" && <TouchKeys connection={connection} />}
		</Pane>
	);
}

/** How the screen comes in. */
function Status({ seen }: { seen: Seen }) {
	if (seen.state.is !== "open" || !seen.begin) return null;
	const l = seen.link;
	return (
		<span
			className="tabular-nums"
			title={l && `A change is drawn ${Math.round(l.trip_seconds * 1000)} ms after it was sent.`}
		>
			{seen.begin.desktop.title}
			{l && `, ${Math.round(l.frames_a_second)} pictures and ${bytes(l.bytes_per_second)} a second`}
		</span>
	);
}

/** Who is here, and whose hand is on the mouse. */
function Hands({ seen }: { seen: Seen }) {
	if (!seen.stage) return null;
	const { viewers, hand } = seen.stage;
	const others = viewers.filter((v) => v.id !== seen.begin?.viewer);
	const name =
		hand === "person" ? (seen.begin?.desktop.name ?? "the person there") : viewers.find((v) => v.id === hand)?.name;
	return (
		<span className="ml-auto flex items-center gap-2 text-faint text-sm @max-2xl:order-first @max-2xl:ml-0">
			{others.length > 0 && (
				<span title={others.map((v) => v.name).join(", ")}>with {others.map((v) => v.name).join(", ")}</span>
			)}
			{hand && hand !== seen.begin?.viewer && (
				<span className="flex items-center gap-1 rounded bg-gorse-fill/20 px-1.5 text-gorse">
					<HandRaisedIcon className="size-4" aria-hidden="true" />
					{name}
				</span>
			)}
		</span>
	);
}
