import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { type ReactNode, useState } from "react";

/**
 * A button for an action that is not easily undone: it says what will happen, to how many, and asks
 * once.
 */
export function Confirm({
	label,
	title,
	verb,
	children,
	disabled,
	onDo,
	onAsk,
	className = "button-quiet",
}: {
	label: ReactNode;
	title: string; // the question
	verb: string; // of the button that does it
	children?: ReactNode; // what will happen
	disabled?: boolean;
	onDo: () => void;
	onAsk?: () => void; // it is about to be asked
	className?: string;
}) {
	const [open, setOpen] = useState(false);
	return (
		<>
			<button
				type="button"
				className={className}
				disabled={disabled}
				onClick={() => {
					onAsk?.();
					setOpen(true);
				}}
			>
				{label}
			</button>
			<Question open={open} title={title} onClose={() => setOpen(false)}>
				<div className="mt-1.5 max-h-[40vh] space-y-2 overflow-auto">{children}</div>
				<div className="mt-4 flex justify-end gap-2">
					<button type="button" className="button-quiet" onClick={() => setOpen(false)}>
						Leave it
					</button>
					<button
						type="button"
						className="button"
						data-autofocus
						onClick={() => {
							setOpen(false);
							onDo();
						}}
					>
						{verb}
					</button>
				</div>
			</Question>
		</>
	);
}

/** A button that asks for one line of text before it does something. */
export function AskLine({
	label,
	title,
	verb,
	field,
	usual = "",
	disabled,
	onDo,
}: {
	label: ReactNode;
	title: string;
	verb: string;
	field: string;
	usual?: string;
	disabled?: boolean;
	onDo: (text: string) => void;
}) {
	const [open, setOpen] = useState(false);
	const [text, setText] = useState(usual);
	return (
		<>
			<button
				type="button"
				className="button-quiet"
				disabled={disabled}
				onClick={() => {
					setText(usual);
					setOpen(true);
				}}
			>
				{label}
			</button>
			<Question open={open} title={title} onClose={() => setOpen(false)}>
				<form
					className="mt-2 space-y-4"
					onSubmit={(e) => {
						e.preventDefault();
						setOpen(false);
						onDo(text);
					}}
				>
					<input
						className="field font-mono text-sm"
						aria-label={field}
						value={text}
						data-autofocus
						spellCheck={false}
						onChange={(e) => setText(e.target.value)}
					/>
					<div className="flex justify-end gap-2">
						<button type="button" className="button-quiet" onClick={() => setOpen(false)}>
							Leave it
						</button>
						<button type="submit" className="button" disabled={!text}>
							{verb}
						</button>
					</div>
				</form>
			</Question>
		</>
	);
}

/** A dialog with a question, in front of the page. */
export function Question({
	open,
	title,
	onClose,
	children,
}: {
	open: boolean;
	title: string;
	onClose: () => void;
	children: ReactNode;
}) {
	return (
		<Dialog open={open} onClose={onClose} className="relative z-40">
			<div className="fixed inset-0 bg-black/40" aria-hidden="true" />
			<div className="fixed inset-0 flex items-start justify-center p-4 pt-[18vh]">
				<DialogPanel className="w-full max-w-md rounded-lg border border-line bg-raised p-4 shadow-xl">
					<DialogTitle className="text-lg font-semibold">{title}</DialogTitle>
					{children}
				</DialogPanel>
			</div>
		</Dialog>
	);
}
