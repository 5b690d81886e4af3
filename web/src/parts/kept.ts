import { useState } from "react";

/** A choice that is kept on this computer. */
export function useKept<T>(name: string, usual: T): [T, (v: T) => void] {
	const [value, setValue] = useState<T>(() => {
		try {
			return JSON.parse(localStorage.getItem(name) ?? "") as T;
		} catch {
			return usual;
		}
	});
	return [
		value,
		(v) => {
			setValue(v);
			localStorage.setItem(name, JSON.stringify(v));
		},
	];
}
