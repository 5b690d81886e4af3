import { Tab, TabGroup, TabList, TabPanel, TabPanels } from "@headlessui/react";
import type { Schemas } from "../api/client";
import { useMay } from "../api/me";
import { AlertList } from "../health/Alerts";
import { DeviceChecks } from "../health/DeviceChecks";
import { Changes } from "../inventory/Changes";
import { Inventory } from "../inventory/Inventory";
import { DeviceRuns } from "../job/DeviceRuns";
import { DeviceUpdates } from "../patch/DeviceUpdates";
import { Actions } from "./Actions";
import { Sessions } from "./Sessions";

/** What is known of a device beside its readings, shown until a tool is open. */
export function Story({ detail, tools }: { detail: Schemas["DeviceDetail"]; tools: number }) {
	const d = detail.device;
	const jobs = useMay("scripts.see");
	const updates = useMay("updates.see");
	const audit = useMay("audit.read");
	const tabs = [
		{ name: "Changes", panel: <Changes device={d.id} /> },
		{ name: "Alerts", panel: <AlertList device={d.id} /> },
		{ name: "Inventory", panel: <Inventory device={d} /> },
		{ name: "Sessions", panel: <Sessions device={d.id} /> },
		{ name: "Checks", panel: <DeviceChecks device={d.id} /> },
		...(jobs ? [{ name: "Jobs", panel: <DeviceRuns device={d.id} /> }] : []),
		...(updates ? [{ name: "Updates", panel: <DeviceUpdates device={d.id} /> }] : []),
		...(audit ? [{ name: "Actions", panel: <Actions device={d.id} /> }] : []),
	];
	return (
		<TabGroup className="flex min-w-0 flex-1 flex-col">
			<TabList className="flex flex-wrap items-center gap-1 px-4 pt-2">
				{tabs.map((t) => (
					<Tab
						key={t.name}
						className="rounded-md px-2.5 py-1 whitespace-nowrap text-faint data-selected:bg-heather-tint data-selected:font-medium data-selected:text-heather hover:text-word"
					>
						{t.name}
					</Tab>
				))}
				<span className="ml-auto truncate pl-4 text-faint text-sm max-2xl:hidden">
					{d.online
						? tools > 0
							? "The tools above work in the background: nobody at the device notices."
							: "This device offers no tool that you may use."
						: "Silent: what you see is its last report. It connects again by itself."}
				</span>
			</TabList>
			<TabPanels className="min-h-0 flex-1 overflow-auto px-4 py-2">
				{tabs.map((t) => (
					<TabPanel key={t.name}>{t.panel}</TabPanel>
				))}
			</TabPanels>
		</TabGroup>
	);
}
