import { useQuery } from "@tanstack/react-query";
import { answer, api } from "../api/client";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Table } from "../parts/Table";
import { checksQuery } from "./alerts";
import { settingText } from "./setting";

/** What a device is judged by, each setting with the policy that it came from. */
export function DeviceChecks({ device }: { device: string }) {
	const kinds = useQuery(checksQuery).data?.items;
	const list = useQuery({
		queryKey: ["checks of", device],
		queryFn: ({ signal }) => answer(api.GET("/devices/{id}/checks", { params: { path: { id: device } }, signal })),
	});
	if (list.isPending) return <Waiting what="the checks" />;
	if (list.isError) return <ProblemAlert error={list.error} retry={() => list.refetch()} />;
	return (
		<Table heads={["Check", "Of", "Setting", "From"]}>
			{list.data.items.map((r) => {
				const kind = kinds?.find((k) => k.name === r.setting.check);
				return (
					<tr key={`${r.setting.check} ${r.setting.subject} ${r.setting.pattern}`} className="border-line border-b">
						<td className="py-1 pr-4">{kind?.title ?? r.setting.check}</td>
						<td className="py-1 pr-4">{r.setting.subject || (kind?.of ? `every ${kind.of}` : "")}</td>
						<td className="py-1 pr-4">{settingText(r.setting, kind?.unit)}</td>
						<td className="py-1">
							{r.policy ? (
								<span className="font-medium">
									{r.policy} <span className="font-normal text-faint">({r.scope.kind})</span>
								</span>
							) : (
								<span className="text-faint">usual</span>
							)}
						</td>
					</tr>
				);
			})}
		</Table>
	);
}
