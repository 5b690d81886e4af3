import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react";
import {
	EllipsisHorizontalIcon,
	MoonIcon,
	QuestionMarkCircleIcon,
	SunIcon,
	UserCircleIcon,
} from "@heroicons/react/24/outline";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, NavLink, useLocation } from "react-router";
import { answer, api } from "../api/client";
import { meQuery } from "../api/me";
import { Tray } from "../files/Tray";
import { Condition } from "../parts/Condition";
import { ErrorBoundary } from "../parts/ErrorBoundary";
import { turnTheme, useDark } from "../parts/theme";
import { useEvents } from "./events";
import { Invitations } from "./Invitations";
import { useGroupKeys, useHelp } from "./keys";
import { type Group, groupOf, pageOf, permitted } from "./pages";
import { Search } from "./Search";
import { useTally } from "./tally";

/** What stands around every page: the rail, the search-or-do box and the fleet's conditions. */
export function Frame({ children }: { children: ReactNode }) {
	const live = useEvents();
	const groups = permitted(useQuery(meQuery).data);
	const path = useLocation().pathname;
	const here = groupOf(path, groups);
	useGroupKeys(groups);
	return (
		<div className="flex h-full max-sm:flex-col-reverse">
			<Rail groups={groups} here={here} />
			<div className="flex min-h-0 min-w-0 flex-1 flex-col">
				<header className="flex items-center gap-4 border-line border-b px-5 py-2 max-sm:px-3">
					<Search />
					<Help />
					<Tally />
				</header>
				<Tabs group={here} path={path} />
				{!live && (
					<p role="status" className="border-line border-b bg-rowan-tint px-5 py-1.5">
						The service cannot be reached: what you see may be old. Trying again…
					</p>
				)}
				<Invitations />
				<main className="min-h-0 flex-1 overflow-auto">
					<ErrorBoundary key={path}>{children}</ErrorBoundary>
				</main>
				<Tray />
			</div>
		</div>
	);
}

const railLink = (on: boolean) =>
	`flex w-16 flex-col items-center gap-0.5 rounded-lg py-1.5 text-[0.8rem] ${on ? "bg-heather-tint font-semibold text-heather" : "text-faint hover:text-word"}`;

/** The groups of pages: at the left, or at the foot of a small screen. */
function Rail({ groups, here }: { groups: Group[]; here: Group | undefined }) {
	return (
		<nav
			aria-label="Pages"
			className="flex shrink-0 items-center gap-1 border-line bg-panel max-sm:justify-around max-sm:border-t max-sm:py-0.5 sm:w-[4.6rem] sm:flex-col sm:overflow-y-auto sm:border-r sm:py-2"
		>
			<Link to="/" className="mb-1 max-sm:hidden" aria-label="Moorwatch">
				<img src="/moor.svg" alt="" className="size-8" />
			</Link>
			{groups.map((g) => (
				<Link
					key={g.name}
					to={g.pages[0]?.to ?? "/"}
					aria-current={g.name === here?.name ? "true" : undefined}
					title={`${g.pages.map((p) => p.name).join(", ")} (g ${g.key})`}
					className={railLink(g.name === here?.name)}
				>
					<g.icon className="size-5" />
					{g.name}
				</Link>
			))}
			<div className="flex flex-col items-center gap-1 max-sm:hidden sm:mt-auto">
				<ThemeButton />
				<Account />
			</div>
			<div className="sm:hidden">
				<Account small />
			</div>
		</nav>
	);
}

/** The pages of the group that is open. A device's own page needs the room, and has none. */
function Tabs({ group, path }: { group: Group | undefined; path: string }) {
	if (!group || group.pages.length < 2 || /^\/(devices|recordings)\/./.test(path)) return null;
	const at = pageOf(path, group);
	return (
		<nav
			aria-label={`Pages of ${group.name}`}
			className="flex shrink-0 gap-1 overflow-x-auto border-line border-b px-4 max-sm:px-2"
		>
			{group.pages.map((p) => (
				<NavLink
					key={p.to}
					to={p.to}
					end={p.to === "/"}
					className={`-mb-px border-b-2 px-2 py-1.5 whitespace-nowrap ${p === at ? "border-heather font-medium text-heather" : "border-transparent text-faint hover:text-word"}`}
				>
					{p.name}
				</NavLink>
			))}
		</nav>
	);
}

/** The way to the handbook's page about this one. */
function Help() {
	const help = useHelp();
	return (
		<button
			type="button"
			className="-ml-2 rounded-lg p-1.5 text-faint hover:text-word"
			aria-label="Help with this page"
			title="Help with this page (?)"
			onClick={help}
		>
			<QuestionMarkCircleIcon className="size-5" />
		</button>
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

/** The menu of one's own; on a small screen with the theme in it. */
function Account({ small = false }: { small?: boolean }) {
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
			<MenuButton
				className={small ? railLink(false) : "rounded-lg p-2 text-faint hover:text-word"}
				aria-label={`${small ? "More, a" : "A"}ccount of ${me?.name}`}
			>
				{small ? <EllipsisHorizontalIcon className="size-5" /> : <UserCircleIcon className="size-6" />}
				{small && "More"}
			</MenuButton>
			<MenuItems
				anchor={small ? "top end" : "right end"}
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
				{small && (
					<MenuItem>
						<button
							type="button"
							className="block w-full px-3 py-1.5 text-left data-focus:bg-heather-tint"
							onClick={turnTheme}
						>
							Turn to the other theme
						</button>
					</MenuItem>
				)}
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
		<ul aria-label="Devices by condition" className="ml-auto flex items-center gap-4 tabular-nums max-sm:hidden">
			{(["failing", "degraded", "silent", "healthy"] as const).map((name) => (
				<li key={name} className="flex items-center gap-1.5" title={name}>
					<Condition name={name} />
					{tally[name]}
				</li>
			))}
		</ul>
	);
}
