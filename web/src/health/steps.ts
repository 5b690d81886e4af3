import type { Device } from "../api/client";

/** The tool with which the next step of a check is taken. */
const stepTools: Record<string, string> = {
	disk: "files",
	"disk-days": "files",
	cpu: "processes",
	memory: "processes",
	swap: "processes",
	latency: "processes",
	"process-cpu": "processes",
	"process-memory": "processes",
	unwanted: "processes",
	service: "services",
	log: "events",
	"log-on": "events",
	"failed-log-ons": "events",
	ping: "network",
	tcp: "network",
	http: "network",
	dns: "network",
	clock: "shell",
};

/** What the steps are called where they are offered beside what is wrong. */
export const stepNames: Record<string, string> = {
	files: "See its folders",
	processes: "See what runs",
	services: "See its services",
	events: "See the log of then",
	network: "Test the network",
	shell: "Open a shell",
};

/** The tool of a check's next step, where the device offers it now. */
export function toolOf(d: Device, check: string) {
	const tool = stepTools[check];
	return tool && d.online && d.capabilities.includes(tool) ? tool : undefined;
}

/** Where the next step is taken at a device: its tool, opened where it matters. Nothing where there is none now. */
export function stepAt(d: Device, check: string, subject: string, since: string) {
	const tool = toolOf(d, check);
	if (!tool) return undefined;
	const params = new URLSearchParams({ pane: tool });
	if (tool === "files" && subject) params.set("folder", subject);
	if (tool === "events") params.set("around", since);
	return `/devices/${d.id}?${params}`;
}
