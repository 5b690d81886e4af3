import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { Route, Routes } from "react-router";
import { Account } from "./access/Account";
import { Audit } from "./access/Audit";
import { Consent } from "./access/Consent";
import { useIdle } from "./access/idle";
import { People } from "./access/People";
import { Prove } from "./access/Prove";
import { SetUp } from "./access/SetUp";
import { SignIn } from "./access/SignIn";
import { meQuery } from "./api/me";
import { Many } from "./bulk/Many";
import { Sweep } from "./bulk/Sweep";
import { Devices } from "./fleet/Devices";
import { Enrol } from "./fleet/Enrol";
import { Groups } from "./fleet/Groups";
import { Frame } from "./frame/Frame";
import { AlertPage } from "./health/AlertPage";
import { Alerts } from "./health/Alerts";
import { Notices } from "./health/Notices";
import { Now } from "./health/Now";
import { Policies } from "./health/Policies";
import { AllChanges } from "./inventory/AllChanges";
import { Software } from "./inventory/Software";
import { Board } from "./job/Board";
import { Compare } from "./job/Compare";
import { Jobs } from "./job/Jobs";
import { Packages } from "./job/Packages";
import { Scripts } from "./job/Scripts";
import { Empty, ProblemAlert, Waiting } from "./parts/ProblemAlert";
import { Advisories } from "./patch/Advisories";
import { Advisory } from "./patch/Advisory";
import { Approvals } from "./patch/Approvals";
import { Exposure } from "./patch/Exposure";
import { Reports } from "./patch/Reports";
import { Rollout } from "./patch/Rollout";
import { Rollouts } from "./patch/Rollouts";
import { Updates } from "./patch/Updates";
import { Recordings } from "./recordings/Recordings";

// The bench brings the terminal and the charts, which the other pages do not need.
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
	if (me.data.must_add_factor) return <Account />;
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
					<Route path="/enrol" element={<Enrol />} />
					<Route path="/recordings" element={<Recordings />} />
					<Route path="/recordings/:id" element={<Replay />} />
					<Route path="/audit" element={<Audit />} />
					<Route path="/people" element={<People />} />
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
