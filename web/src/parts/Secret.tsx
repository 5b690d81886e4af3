import { ClipboardDocumentIcon } from "@heroicons/react/20/solid";
import { useState } from "react";

/** Text that was made to be copied, such as a secret shown once or a command. */
export function Copyable({ text, label }: { text: string; label: string }) {
	const [copied, setCopied] = useState(false);
	return (
		<div className="flex items-start gap-2 rounded-md border border-line bg-panel px-3 py-2">
			<code className="min-w-0 flex-1 font-mono text-sm break-all whitespace-pre-wrap">{text}</code>
			<button
				type="button"
				className="button-quiet -my-1 shrink-0"
				aria-label={`Copy ${label}`}
				onClick={() => navigator.clipboard.writeText(text).then(() => setCopied(true))}
			>
				<ClipboardDocumentIcon className="size-4" aria-hidden="true" />
				{copied ? "Copied" : "Copy"}
			</button>
		</div>
	);
}
