import { useQuery } from "@tanstack/react-query";
import { answer, api } from "../api/client";
import { Ago } from "../parts/time";

/** What was last done to a device, and by whom. Nothing is shown where nothing was done. */
export function Actions({ device }: { device: string }) {
	const log = useQuery({
		queryKey: ["audit", device],
		queryFn: ({ signal }) => answer(api.GET("/audit", { params: { query: { device, limit: 12 } }, signal })),
	});
	if (!log.data?.items.length) return null;
	return (
		<section aria-label="What was done" className="mx-auto w-full max-w-2xl px-6 pb-6">
			<h2 className="mb-1 font-semibold">What was done here</h2>
			<table className="w-full border-collapse">
				<tbody>
					{log.data.items.map((e) => (
						<tr key={e.seq} className="border-line border-b align-top">
							<td className="py-1 pr-4 text-faint">
								<Ago at={e.at} />
							</td>
							<td className="py-1 pr-4 whitespace-nowrap">{e.actor}</td>
							<td className="py-1 pr-4 whitespace-nowrap">{e.action}</td>
							<td className="max-w-60 truncate py-1 pr-4 font-mono text-sm" title={e.detail}>
								{e.detail}
							</td>
							<td className="py-1">{e.result}</td>
						</tr>
					))}
				</tbody>
			</table>
		</section>
	);
}
