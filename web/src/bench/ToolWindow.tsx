import { useQuery } from "@tanstack/react-query";
import { Suspense, useEffect } from "react";
import { useParams } from "react-router";
import { Permitted } from "../api/me";
import { read } from "../api/queries";
import { Empty, ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { tools } from "./tools";

/** One tool of a device in a window of its own. */
export default function ToolWindow() {
	const { id = "", pane = "" } = useParams();
	const detail = useQuery(read("/devices/{id}", { path: { id } }));
	const tool = tools.find((t) => t.pane === pane);
	const name = detail.data?.device.name;
	useEffect(() => {
		if (name && tool) document.title = `${tool.title} at ${name} – Moorwatch`;
	}, [name, tool]);
	if (detail.isPending) return <Waiting what="the device" />;
	if (detail.isError)
		return (
			<div className="p-6">
				<ProblemAlert error={detail.error} retry={() => detail.refetch()} />
			</div>
		);
	if (!tool?.needs.some((p) => detail.data.permissions.includes(p)))
		return <Empty title="There is no such tool.">Open the device's bench, and choose one there.</Empty>;
	return (
		<Permitted value={detail.data.permissions}>
			<main className="flex h-full flex-col bg-page">
				<h1 className="sr-only">
					{tool.title} at {name}
				</h1>
				<Suspense fallback={<Waiting what="the tool" />}>
					<tool.Pane device={detail.data.device} onClose={() => window.close()} />
				</Suspense>
			</main>
		</Permitted>
	);
}
