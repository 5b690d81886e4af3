import { useRef, useState } from "react";
import type { Connection } from "./connection";

const modifiers = [
	["Control", "ControlLeft", "Ctrl"],
	["Alt", "AltLeft", "Alt"],
	["Shift", "ShiftLeft", "Shift"],
	["Meta", "MetaLeft", "System"],
] as const;

const keys = [
	["Escape", "Escape", "Esc"],
	["Tab", "Tab", "Tab"],
	["Enter", "Enter", "Enter"],
	["Backspace", "Backspace", "⌫"],
	["Delete", "Delete", "Del"],
	["ArrowLeft", "ArrowLeft", "←"],
	["ArrowUp", "ArrowUp", "↑"],
	["ArrowDown", "ArrowDown", "↓"],
	["ArrowRight", "ArrowRight", "→"],
	["Home", "Home", "Home"],
	["End", "End", "End"],
	["PageUp", "PageUp", "Page up"],
	["PageDown", "PageDown", "Page down"],
	...Array.from({ length: 12 }, (_, i) => [`F${i + 1}`, `F${i + 1}`, `F${i + 1}`] as const),
] as const;

/** Keys for hands without a keyboard: the telephone's own letters, and those that it lacks. */
export function TouchKeys({ connection }: { connection: Connection }) {
	const [down, setDown] = useState<string[]>([]);
	const letters = useRef<HTMLInputElement>(null);
	const letGo = () => {
		for (const [key, code] of modifiers) if (down.includes(code)) connection.key({ key, code, down: false });
		setDown([]);
	};
	const press = (key: string, code: string) => {
		connection.key({ key, code, down: true });
		connection.key({ key, code, down: false });
		letGo();
	};
	const button = "min-h-9 min-w-9 shrink-0 rounded-md border border-line bg-raised px-2 text-sm";
	return (
		<div role="toolbar" aria-label="Keys" className="flex gap-1 overflow-x-auto border-line border-t bg-panel p-1.5">
			<input
				ref={letters}
				className="w-24 shrink-0 rounded-md border border-line bg-raised px-2 text-sm"
				aria-label="Type on the device"
				placeholder="Type…"
				autoCapitalize="off"
				autoComplete="off"
				autoCorrect="off"
				spellCheck={false}
				onChange={(e) => {
					// One letter goes with the modifiers that are down, more are typed as a text.
					const text = e.target.value;
					e.target.value = "";
					if (!text) return;
					if (down.length && [...text].length === 1) press(text, `Touch${text}`);
					else connection.send({ text });
				}}
				onKeyDown={(e) => {
					if (e.key === "Backspace" || e.key === "Enter") {
						e.preventDefault();
						press(e.key, e.key);
					}
				}}
			/>
			{modifiers.map(([key, code, name]) => (
				<button
					key={code}
					type="button"
					aria-pressed={down.includes(code)}
					className={`${button} ${down.includes(code) ? "border-heather bg-heather-tint" : ""}`}
					onClick={() => {
						const on = !down.includes(code);
						connection.key({ key, code, down: on });
						setDown(on ? [...down, code] : down.filter((d) => d !== code));
					}}
				>
					{name}
				</button>
			))}
			{keys.map(([key, code, name]) => (
				<button key={code} type="button" className={button} onClick={() => press(key, code)}>
					{name}
				</button>
			))}
		</div>
	);
}
