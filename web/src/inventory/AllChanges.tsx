import { Changes } from "./Changes";

/** What changed on all devices. */
export function AllChanges() {
	return (
		<div className="mx-auto max-w-5xl px-5 py-5">
			<h1 className="mb-3 text-xl font-semibold">Changes on all devices</h1>
			<Changes />
		</div>
	);
}
