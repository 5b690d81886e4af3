import { useEffect, useRef, useState } from "react";
import { lines } from "../api/lines";

/**
 * Listens to a stream of the service while it is shown, and begins it anew when path or body
 * change, and by itself a few seconds after it broke. onEvent is called with each object.
 */
export function useLines<T>(path: string, body: unknown, onEvent: (e: T) => void, again = true) {
	const [state, setState] = useState<"reading" | "over">("reading");
	const [error, setError] = useState<unknown>();
	const [turn, setTurn] = useState(0);
	const handle = useRef(onEvent);
	handle.current = onEvent;
	const text = body === undefined ? undefined : JSON.stringify(body);
	useEffect(() => {
		const stop = new AbortController();
		let timer: ReturnType<typeof setTimeout> | undefined;
		setState("reading");
		lines<T>(path, stop.signal, (e) => handle.current(e), text === undefined ? undefined : JSON.parse(text))
			.then(() => {
				setError(undefined);
				setState("over");
			})
			.catch((problem) => {
				if (stop.signal.aborted) return;
				setError(problem);
				setState("over");
				const passing = [0, 502, 503].includes(problem?.problem?.status);
				if (again && passing) timer = setTimeout(() => setTurn((n) => n + 1), 4000);
			});
		return () => {
			clearTimeout(timer);
			stop.abort();
		};
	}, [path, text, turn, again]);
	return { state, error, retry: () => setTurn((n) => n + 1), clear: () => setError(undefined) };
}
