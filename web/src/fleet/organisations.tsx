import { useQuery } from "@tanstack/react-query";
import { read } from "../api/queries";

/** An organisation and a site of it, by name. */
export type Place = { organisation: string; site: string };

/** The organisations with their sites. */
export function useOrganisations(options: { enabled?: boolean } = {}) {
	return useQuery({ ...read("/organisations", { query: { limit: 500 } }), ...options });
}

/** The sites as choices, under their organisations; the value of each is its Place as JSON. */
export function SiteOptions({ not, enabled }: { not?: Place; enabled?: boolean }) {
	return useOrganisations({ enabled }).data?.items.map((o) => (
		<optgroup key={o.id} label={o.name}>
			{o.sites
				.filter((s) => s.name !== not?.site || o.name !== not.organisation)
				.map((s) => (
					<option key={s.id} value={JSON.stringify({ organisation: o.name, site: s.name } satisfies Place)}>
						{s.name}
					</option>
				))}
		</optgroup>
	));
}
