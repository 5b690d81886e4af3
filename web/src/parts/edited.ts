import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";

/** What a page edits; "new" where the address asks for it with ?new, as the search box does. */
export function useEdited<T>() {
	const [params, setParams] = useSearchParams();
	const asked = params.has("new");
	const [edited, setEdited] = useState<T | "new" | undefined>(asked ? "new" : undefined);
	useEffect(() => {
		if (!asked) return;
		setEdited("new");
		setParams(
			(old) => {
				old.delete("new");
				return old;
			},
			{ replace: true },
		);
	}, [asked, setParams]);
	return [edited, setEdited] as const;
}
