import { useQuery } from "@tanstack/react-query";
import { type ComponentType, lazy, Suspense } from "react";
import { Route, Routes } from "react-router";
import { useIdle } from "./access/idle";
import { Prove } from "./access/Prove";
import { SetUp } from "./access/SetUp";
import { SignIn } from "./access/SignIn";
import { meQuery } from "./api/me";
import { Devices } from "./fleet/Devices";
import { Frame } from "./frame/Frame";
import { Now } from "./health/Now";
import { Empty, ProblemAlert, Waiting } from "./parts/ProblemAlert";

// A page is loaded when it is opened, but for the first and the list of devices.
const page = <K extends string>(load: () => Promise<Record<K, ComponentType>>, name: K) =>
	lazy(() => load().then((m) => ({ default: m[name] })));
const Account = page(() => import("./access/Account"), "Account");
const Advisories = page(() => import("./patch/Advisories"), "Advisories");
const Advisory = page(() => import("./patch/Advisory"), "Advisory");
const AlertPage = page(() => import("./health/AlertPage"), "AlertPage");
const Alerts = page(() => import("./health/Alerts"), "Alerts");
const AllChanges = page(() => import("./inventory/AllChanges"), "AllChanges");
const Approvals = page(() => import("./patch/Approvals"), "Approvals");
const Audit = page(() => import("./access/Audit"), "Audit");
const Board = page(() => import("./job/Board"), "Board");
const Compare = page(() => import("./job/Compare"), "Compare");
const Consent = page(() => import("./access/Consent"), "Consent");
const Enrol = page(() => import("./fleet/Enrol"), "Enrol");
const Exposure = page(() => import("./patch/Exposure"), "Exposure");
const Groups = page(() => import("./fleet/Groups"), "Groups");
const Handbook = page(() => import("./handbook/Handbook"), "Handbook");
const Jobs = page(() => import("./job/Jobs"), "Jobs");
const Many = page(() => import("./bulk/Many"), "Many");
const Notices = page(() => import("./health/Notices"), "Notices");
const Packages = page(() => import("./job/Packages"), "Packages");
const People = page(() => import("./access/People"), "People");
const Policies = page(() => import("./health/Policies"), "Policies");
const Recordings = page(() => import("./recordings/Recordings"), "Recordings");
const Reports = page(() => import("./patch/Reports"), "Reports");
const Rollout = page(() => import("./patch/Rollout"), "Rollout");
const Rollouts = page(() => import("./patch/Rollouts"), "Rollouts");
const Scripts = page(() => import("./job/Scripts"), "Scripts");
const Sites = page(() => import("./fleet/Sites"), "Sites");
const Software = page(() => import("./inventory/Software"), "Software");
const Sweep = page(() => import("./bulk/Sweep"), "Sweep");
const Updates = page(() => import("./patch/Updates"), "Updates");
const Bench = lazy(() => import("./bench/Bench"));
const Screens = lazy(() => import("./screen/Screens"));
const Wall = lazy(() => import("./screen/Wall"));
const ToolWindow = lazy(() => import("./bench/ToolWindow"));
const Replay = lazy(() => import("./recordings/Replay"));

/** The console: its pages, and the door before them. */
export function App() {
	return (
		<Routes>
			<Route path="/set-up" element={<SetUp />} />
			<Route path="*" element={<Inside />} />
		</Routes>
	);
}

function Inside() {
	const me = useQuery(meQuery);
	useIdle(me.data?.idle_minutes ?? 0);
	if (me.isPending) return null;
	if (me.isError)
		return (
			<div className="p-8">
				<ProblemAlert error={me.error} retry={() => me.refetch()} />
			</div>
		);
	if (!me.data) return <SignIn />;
	if (me.data.must_add_factor)
		return (
			<Suspense fallback={<Waiting what="your account" />}>
				<Account />
			</Suspense>
		);
	return (
		<>
			<Routes>
				<Route
					path="/devices/:id/window/:pane"
					element={
						<Suspense fallback={<Waiting what="the tool" />}>
							<ToolWindow />
						</Suspense>
					}
				/>
				<Route path="*" element={<Pages />} />
			</Routes>
			<Prove />
		</>
	);
}

function Pages() {
	return (
		<Frame>
			<Suspense fallback={<Waiting what="the page" />}>
				<Routes>
					<Route path="/" element={<Now />} />
					<Route path="/devices" element={<Devices />} />
					<Route path="/devices/:id" element={<Bench />} />
					<Route path="/alerts" element={<Alerts />} />
					<Route path="/alerts/:id" element={<AlertPage />} />
					<Route path="/groups" element={<Groups />} />
					<Route path="/policies" element={<Policies />} />
					<Route path="/notices" element={<Notices />} />
					<Route path="/sweep" element={<Sweep />} />
					<Route path="/wall" element={<Wall />} />
					<Route path="/screens" element={<Screens />} />
					<Route path="/many" element={<Many />} />
					<Route path="/jobs" element={<Jobs />} />
					<Route path="/jobs/:id" element={<Board />} />
					<Route path="/jobs/:id/compare" element={<Compare />} />
					<Route path="/scripts" element={<Scripts />} />
					<Route path="/packages" element={<Packages />} />
					<Route path="/updates" element={<Updates />} />
					<Route path="/exposure" element={<Exposure />} />
					<Route path="/reports" element={<Reports />} />
					<Route path="/advisories" element={<Advisories />} />
					<Route path="/advisories/:id" element={<Advisory />} />
					<Route path="/approvals" element={<Approvals />} />
					<Route path="/rollouts" element={<Rollouts />} />
					<Route path="/rollouts/:id" element={<Rollout />} />
					<Route path="/consent" element={<Consent />} />
					<Route path="/software" element={<Software />} />
					<Route path="/changes" element={<AllChanges />} />
					<Route path="/sites" element={<Sites />} />
					<Route path="/enrol" element={<Enrol />} />
					<Route path="/recordings" element={<Recordings />} />
					<Route path="/recordings/:id" element={<Replay />} />
					<Route path="/audit" element={<Audit />} />
					<Route path="/people" element={<People />} />
					<Route path="/handbook/:page?" element={<Handbook />} />
					<Route path="/account" element={<Account />} />
					<Route
						path="*"
						element={<Empty title="There is no such page.">Press Ctrl+K to find a device or a page.</Empty>}
					/>
				</Routes>
			</Suspense>
		</Frame>
	);
}
