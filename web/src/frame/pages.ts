import {
	BellAlertIcon,
	ChartBarIcon,
	Cog6ToothIcon,
	ComputerDesktopIcon,
	WrenchScrewdriverIcon,
} from "@heroicons/react/24/outline";
import type { ComponentType } from "react";
import type { Me } from "../api/me";

/** A page of the console: where it is, what it is called, and who may use it. */
export type Page = {
	to: string;
	name: string;
	about: string; // for the search: what one does there
	needs?: string; // a permission, held anywhere
	everywhere?: string; // a permission, held everywhere
};

/** Pages that belong together: an entry of the rail, and tabs below the header. */
export type Group = { name: string; key: string; icon: ComponentType<{ className?: string }>; pages: Page[] };

export const groups: Group[] = [
	{
		name: "Now",
		key: "n",
		icon: BellAlertIcon,
		pages: [
			{ to: "/", name: "Needs a person", about: "what needs a person now" },
			{ to: "/alerts", name: "Alerts", about: "current and past alerts" },
		],
	},
	{
		name: "Devices",
		key: "d",
		icon: ComputerDesktopIcon,
		pages: [
			{ to: "/devices", name: "Devices", about: "all devices" },
			{ to: "/wall", name: "Wall", about: "many screens at once", needs: "screen.see" },
			{ to: "/groups", name: "Groups", about: "groups of devices" },
			{ to: "/software", name: "Software", about: "software of the fleet" },
			{ to: "/changes", name: "Changes", about: "what changed on all devices" },
			{ to: "/sweep", name: "Sweep", about: "ask many devices something", needs: "device.sweep" },
		],
	},
	{
		name: "Work",
		key: "w",
		icon: WrenchScrewdriverIcon,
		pages: [
			{ to: "/jobs", name: "Jobs", about: "what runs and what is planned", needs: "scripts.see" },
			{ to: "/many", name: "Do now", about: "do one thing on many devices, now", needs: "device.sweep" },
			{ to: "/scripts", name: "Scripts", about: "the library of scripts", needs: "scripts.see" },
			{ to: "/packages", name: "Packages", about: "install and remove software", needs: "scripts.see" },
			{ to: "/updates", name: "Updates", about: "which updates are missing", needs: "updates.see" },
			{ to: "/rollouts", name: "Rollouts", about: "updates ring by ring", needs: "updates.see" },
			{ to: "/approvals", name: "Update rules", about: "which updates are approved or held", needs: "updates.see" },
			{ to: "/advisories", name: "Advisories", about: "known weaknesses of the software", needs: "updates.see" },
			{ to: "/exposure", name: "Exposure", about: "which devices are furthest behind", needs: "updates.see" },
		],
	},
	{
		name: "Reports",
		key: "r",
		icon: ChartBarIcon,
		pages: [
			{ to: "/reports", name: "Reports", about: "how current the devices are", needs: "updates.see" },
			{ to: "/recordings", name: "Recordings", about: "recorded shells and screens" },
			{ to: "/audit", name: "Audit log", about: "who did what", needs: "audit.read" },
		],
	},
	{
		name: "Set up",
		key: "s",
		icon: Cog6ToothIcon,
		pages: [
			{ to: "/policies", name: "Policies", about: "what devices are judged by" },
			{ to: "/consent", name: "Consent", about: "who is told or asked before a session" },
			{ to: "/notices", name: "Notices", about: "who is told of which alert", everywhere: "notice.manage" },
			{ to: "/sites", name: "Sites", about: "organisations and their sites", everywhere: "fleet.manage" },
			{ to: "/enrol", name: "Add devices", about: "enrol a device", needs: "fleet.enrol" },
			{
				to: "/people",
				name: "People and roles",
				about: "colleagues and what they may do",
				everywhere: "people.manage",
			},
		],
	},
];

/** The groups with the pages that somebody may use; a group without any is left out. */
export function permitted(me: Me | null | undefined): Group[] {
	const may = (p: Page) =>
		(!p.needs || me?.permissions.includes(p.needs)) && (!p.everywhere || me?.everywhere.includes(p.everywhere));
	return groups.map((g) => ({ ...g, pages: g.pages.filter(may) })).filter((g) => g.pages.length > 0);
}

const within = (path: string, to: string) => path === to || (to !== "/" && path.startsWith(`${to}/`));

/** The group that a path belongs to, of some. */
export function groupOf(path: string, of: Group[]) {
	return of.find((g) => g.pages.some((p) => within(path, p.to)));
}

/** The page of a group that a path is, or is below. */
export function pageOf(path: string, g: Group | undefined) {
	return g?.pages.find((p) => within(path, p.to));
}
