import type { Schemas } from "../api/client";
import { Ago } from "../parts/time";

/** What a job would do, before it does. */
export function Plan({ plan: p }: { plan: Schemas["Job"] }) {
	const n = p.counts.waiting ?? 0;
	const names = (list?: string[], count = list?.length ?? 0) =>
		list && list.length > 0 ? `: ${list.slice(0, 8).join(", ")}${count > 8 ? ` and ${count - 8} more` : ""}` : "";
	const away = n - (p.online ?? 0);
	return (
		<div role="status" className="space-y-1">
			<p>
				{p.when.event || p.when.follow ? "It is meant for " : "It is done on "}
				<strong>{n}</strong> {n === 1 ? "device" : "devices"}, of which {p.online} are online now
				{names(p.sample, n)}.
			</p>
			{(p.counts.unfit ?? 0) > 0 && (
				<p className="text-faint">
					{p.counts.unfit} more are left out, of another system or without what it needs{names(p.unfit, p.counts.unfit)}
					.
				</p>
			)}
			{away > 0 && !p.limits.wait_hours && !p.when.rule && !p.when.event && (
				<p className="text-gorse">{away} are away, and would be missed: say for how many hours they are awaited.</p>
			)}
			{p.next_at && (
				<p>
					The first time is <Ago at={p.next_at} />.
				</p>
			)}
			{p.opens && (
				<p>
					The first maintenance window opens <Ago at={p.opens} />.
				</p>
			)}
			{(p.shut_count ?? 0) > 0 && (
				<p className="text-rowan">
					{p.shut_count} have no maintenance window before the deadline, and would be missed
					{names(p.shut, p.shut_count)}.
				</p>
			)}
			{(p.busy ?? 0) > 0 && (
				<p className="text-faint">
					{p.busy === 1 ? "One has" : `${p.busy} have`} runs of other jobs under way or waiting, which come first where
					they were begun before.
				</p>
			)}
		</div>
	);
}
