import {
	AdjustmentsHorizontalIcon,
	ClipboardDocumentListIcon,
	CommandLineIcon,
	ComputerDesktopIcon,
	CpuChipIcon,
	FolderIcon,
	GlobeAltIcon,
	PlayIcon,
	TableCellsIcon,
	UserIcon,
	WrenchIcon,
} from "@heroicons/react/20/solid";
import { type ComponentType, lazy } from "react";
import type { Device } from "../api/client";

type PaneProps = { device: Device; onClose: () => void };

/** A tool of the bench: which permissions open it, and which of the device's offers it needs. */
export type BenchTool = {
	pane: string;
	title: string;
	icon: ComponentType<{ className?: string }>;
	needs: string[]; // any of them
	of: string[]; // any of them
	noticed?: string;
	Pane: ComponentType<PaneProps>;
};

/** The tools, those that the person at the device does not notice first. Each is loaded when it is opened. */
export const tools: BenchTool[] = [
	{
		pane: "command",
		title: "Command",
		icon: PlayIcon,
		needs: ["command.act"],
		of: ["commands"],
		Pane: lazy(() => import("../tools/CommandPane").then((m) => ({ default: m.CommandPane }))),
	},
	{
		pane: "shell",
		title: "Shell",
		icon: CommandLineIcon,
		needs: ["shell.act"],
		of: ["shell"],
		Pane: lazy(() => import("../tools/ShellPane").then((m) => ({ default: m.ShellPane }))),
	},
	{
		pane: "files",
		title: "Files",
		icon: FolderIcon,
		needs: ["files.see"],
		of: ["files"],
		Pane: lazy(() => import("../files/FilesPane").then((m) => ({ default: m.FilesPane }))),
	},
	{
		pane: "processes",
		title: "Processes",
		icon: CpuChipIcon,
		needs: ["processes.see"],
		of: ["processes"],
		Pane: lazy(() => import("../tools/ProcessesPane").then((m) => ({ default: m.ProcessesPane }))),
	},
	{
		pane: "services",
		title: "Services",
		icon: WrenchIcon,
		needs: ["services.see"],
		of: ["services"],
		Pane: lazy(() => import("../tools/ServicesPane").then((m) => ({ default: m.ServicesPane }))),
	},
	{
		pane: "events",
		title: "Event logs",
		icon: ClipboardDocumentListIcon,
		needs: ["events.see"],
		of: ["events"],
		Pane: lazy(() => import("../tools/EventsPane").then((m) => ({ default: m.EventsPane }))),
	},
	{
		pane: "network",
		title: "Network",
		icon: GlobeAltIcon,
		needs: ["network.see"],
		of: ["network"],
		Pane: lazy(() => import("../tools/NetworkPane").then((m) => ({ default: m.NetworkPane }))),
	},
	{
		pane: "settings",
		title: "Settings",
		icon: AdjustmentsHorizontalIcon,
		needs: ["settings.see"],
		of: ["settings"],
		Pane: lazy(() => import("../tools/SettingsPane").then((m) => ({ default: m.SettingsPane }))),
	},
	{
		pane: "queries",
		title: "Queries",
		icon: TableCellsIcon,
		needs: ["queries.see"],
		of: ["queries"],
		Pane: lazy(() => import("../tools/QueriesPane").then((m) => ({ default: m.QueriesPane }))),
	},
	{
		pane: "screen",
		title: "Screen",
		icon: ComputerDesktopIcon,
		needs: ["screen.see"],
		of: ["screen"],
		noticed: "The person at the device is asked, and sees that you look on.",
		Pane: lazy(() => import("../screen/ScreenPane").then((m) => ({ default: m.ScreenPane }))),
	},
	{
		pane: "people",
		title: "People and power",
		icon: UserIcon,
		needs: ["people.see", "power.act"],
		of: ["people", "power"],
		noticed: "The person at the device sees a message, or loses their session.",
		Pane: lazy(() => import("../tools/PeoplePane").then((m) => ({ default: m.PeoplePane }))),
	},
];
