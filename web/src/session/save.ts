/** Hands a text to the browser as a file to keep. */
export function save(name: string, text: string) {
	const link = document.createElement("a");
	link.href = URL.createObjectURL(new Blob([text], { type: "text/plain;charset=utf-8" }));
	link.download = name;
	link.click();
	setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}
