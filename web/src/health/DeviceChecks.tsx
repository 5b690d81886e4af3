import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../api/client";
import { read } from "../api/queries";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { checksQuery } from "./alerts";
import { settingText } from "./setting";

/** What a device is judged by, each setting with the policy that it came from. */
export function DeviceChecks({ device }: { device: string }) {
	const kinds = useQuery(checksQuery).data?.items;
	const kindOf = (r: Schemas["ResolvedCheck"]) => kinds?.find((k) => k.name === r.setting.check);
	const every = (of?: string) => (of ? `every ${of}` : "");
	const list = useQuery(read("/devices/{id}/checks", { path: { id: device } }));
	if (list.isPending) return <Waiting what="the checks" />;
	if (list.isError) return <ProblemAlert error={list.error} retry={() => list.refetch()} />;
	return (
		<Table
			rows={list.data.items}
			id={(r) => `${r.setting.check} ${r.setting.subject} ${r.setting.pattern}`}
			columns={[
				{ head: "Check", show: (r) => kindOf(r)?.title ?? r.setting.check },
				{ head: "Of", show: (r) => r.setting.subject || every(kindOf(r)?.of) },
				{
					head: "Setting",
					value: (r) => settingText(r.setting, kindOf(r)?.unit),
					show: (r) => settingText(r.setting, kindOf(r)?.unit),
				},
				{
					head: "From",
					show: (r) =>
						r.policy ? (
							<span className="font-medium">
								{r.policy} <span className="font-normal text-faint">({r.scope.kind})</span>
							</span>
						) : (
							<span className="text-faint">usual</span>
						),
				},
			]}
		/>
	);
}
