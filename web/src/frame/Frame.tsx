import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react";
import {
	ArrowPathRoundedSquareIcon,
	BellAlertIcon,
	ClipboardDocumentListIcon,
	ComputerDesktopIcon,
	CubeIcon,
	EnvelopeIcon,
	MegaphoneIcon,
	MoonIcon,
	PlusCircleIcon,
	QueueListIcon,
	RectangleGroupIcon,
	ShieldCheckIcon,
	Square3Stack3DIcon,
	Squares2X2Icon,
	SunIcon,
	UserCircleIcon,
	UsersIcon,
} from "@heroicons/react/24/outline";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { ComponentType, ReactNode } from "react";
import { Link, NavLink, useLocation } from "react-router";
import { answer, api } from "../api/client";
import { meQuery, useMay, useMayEverywhere } from "../api/me";
import { Tray } from "../files/Tray";
import { Condition } from "../parts/Condition";
import { ErrorBoundary } from "../parts/ErrorBoundary";
import { turnTheme, useDark } from "../parts/theme";
import { useEvents } from "./events";
import { Invitations } from "./Invitations";
import { Search } from "./Search";
import { useTally } from "./tally";

/** What stands around every page: the rail, the search-or-do box and the fleet's conditions. */
export function Frame({ children }: { children: ReactNode }) {
	const live = useEvents();
	const enrol = useMay("fleet.enrol");
	const screens = useMay("screen.see");
	const audit = useMay("audit.read");
	const sweep = useMay("device.sweep");
	const jobs = useMay("scripts.see");
	const updates = useMay("updates.see");
	const notices = useMayEverywhere("notice.manage");
	const people = useMayEverywhere("people.manage");
	return (
		<div className="flex h-full">
			<nav
				aria-label="Pages"
				className="flex w-[4.6rem] shrink-0 flex-col items-center gap-0.5 overflow-y-auto border-line border-r bg-panel py-2"
			>
				<Link to="/" className="mb-1" aria-label="Moorwatch">
					<img src="/moor.svg" alt="" className="size-8" />
				</Link>
				<RailLink to="/" icon={BellAlertIcon} name="Now" />
				<RailLink to="/devices" icon={ComputerDesktopIcon} name="Devices" />
				{screens && <RailLink to="/wall" icon={Squares2X2Icon} name="Wall" />}
				<RailLink to="/groups" icon={RectangleGroupIcon} name="Groups" />
				<RailLink to="/policies" icon={ShieldCheckIcon} name="Policies" />
				{sweep && <RailLink to="/sweep" icon={MegaphoneIcon} name="Sweep" />}
				{sweep && <RailLink to="/many" icon={Square3Stack3DIcon} name="On many" />}
				{jobs && <RailLink to="/jobs" icon={QueueListIcon} name="Jobs" />}
				{updates && <RailLink to="/updates" icon={ArrowPathRoundedSquareIcon} name="Updates" />}
				<RailLink to="/software" icon={CubeIcon} name="Software" />
				{notices && <RailLink to="/notices" icon={EnvelopeIcon} name="Notices" />}
				{enrol && <RailLink to="/enrol" icon={PlusCircleIcon} name="Add" />}
				{audit && <RailLink to="/audit" icon={ClipboardDocumentListIcon} name="Audit" />}
				{people && <RailLink to="/people" icon={UsersIcon} name="People" />}
				<div className="mt-auto flex flex-col items-center gap-1">
					<ThemeButton />
					<Account />
				</div>
			</nav>
			<div className="flex min-w-0 flex-1 flex-col">
				<header className="flex items-center gap-4 border-line border-b px-5 py-2">
					<Search />
					<Tally />
				</header>
				{!live && (
					<p role="status" className="border-line border-b bg-rowan-tint px-5 py-1.5">
						The service cannot be reached: what you see may be old. Trying again…
					</p>
				)}
				<Invitations />
				<main className="min-h-0 flex-1 overflow-auto">
					<ErrorBoundary key={useLocation().pathname}>{children}</ErrorBoundary>
				</main>
				<Tray />
			</div>
		</div>
	);
}

type Icon = ComponentType<{ className?: string }>;

function RailLink({ to, icon: Glyph, name }: { to: string; icon: Icon; name: string }) {
	return (
		<NavLink
			to={to}
			end={to === "/"}
			className={({ isActive }) =>
				`flex w-16 flex-col items-center gap-0.5 rounded-lg py-1 text-[0.8rem] ${isActive ? "bg-heather-tint font-semibold text-heather" : "text-faint hover:text-word"}`
			}
		>
			<Glyph className="size-5" />
			{name}
		</NavLink>
	);
}

function ThemeButton() {
	const dark = useDark();
	const Glyph = dark ? SunIcon : MoonIcon;
	return (
		<button
			type="button"
			onClick={turnTheme}
			className="rounded-lg p-2 text-faint hover:text-word"
			aria-label={dark ? "Light theme" : "Dark theme"}
			title={dark ? "Light theme" : "Dark theme"}
		>
			<Glyph className="size-5" />
		</button>
	);
}

function Account() {
	const me = useQuery(meQuery).data;
	const queries = useQueryClient();
	const signOut = useMutation({
		mutationFn: () => answer(api.DELETE("/session")),
		onSuccess: () => {
			queries.clear();
			queries.setQueryData(meQuery.queryKey, null);
			location.assign("/");
		},
	});
	return (
		<Menu>
			<MenuButton className="rounded-lg p-2 text-faint hover:text-word" aria-label={`Account of ${me?.name}`}>
				<UserCircleIcon className="size-6" />
			</MenuButton>
			<MenuItems
				anchor="right end"
				className="z-40 w-64 rounded-md border border-line bg-raised py-1 shadow-lg focus:outline-none"
			>
				<div className="border-line border-b px-3 pt-1 pb-2">
					<p className="font-medium">{me?.name}</p>
					<p className="text-faint text-sm">{me?.email}</p>
				</div>
				<MenuItem>
					<Link to="/account" className="block px-3 py-1.5 data-focus:bg-heather-tint">
						Your account
					</Link>
				</MenuItem>
				<MenuItem>
					<button
						type="button"
						className="block w-full px-3 py-1.5 text-left data-focus:bg-heather-tint"
						onClick={() => signOut.mutate()}
					>
						Sign out
					</button>
				</MenuItem>
			</MenuItems>
		</Menu>
	);
}

/** How many devices are in each condition. */
function Tally() {
	const tally = useTally();
	return (
		<ul aria-label="Devices by condition" className="ml-auto flex items-center gap-4 tabular-nums">
			{(["failing", "degraded", "silent", "healthy"] as const).map((name) => (
				<li key={name} className="flex items-center gap-1.5" title={name}>
					<Condition name={name} />
					{tally[name]}
				</li>
			))}
		</ul>
	);
}
