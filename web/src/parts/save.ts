/** Hands a text, or a file that was made here, to the browser as a file to keep. */
export function save(name: string, content: string | Blob) {
	const link = document.createElement("a");
	link.href = URL.createObjectURL(
		typeof content === "string" ? new Blob([content], { type: "text/plain;charset=utf-8" }) : content,
	);
	link.download = name;
	link.click();
	setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}
