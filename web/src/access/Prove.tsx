import { useEffect, useState } from "react";
import { answer, api, setProver } from "../api/client";
import { Question } from "../parts/Confirm";
import { Labelled } from "../parts/Labelled";
import { ProblemAlert } from "../parts/ProblemAlert";

/** Asks for the password when the service wants to know that it is still the same person, before something grave. */
export function Prove() {
	const [asked, setAsked] = useState<(proved: boolean) => void>();
	const [password, setPassword] = useState("");
	const [error, setError] = useState<unknown>();
	useEffect(() => {
		setProver(() => new Promise<boolean>((done) => setAsked(() => done)));
		return () => setProver(undefined);
	}, []);
	const end = (proved: boolean) => {
		asked?.(proved);
		setAsked(undefined);
		setPassword("");
		setError(undefined);
	};
	return (
		<Question open={asked !== undefined} title="Prove that it is you" onClose={() => end(false)}>
			<form
				className="mt-2 space-y-4"
				onSubmit={(e) => {
					e.preventDefault();
					answer(api.POST("/session/proof", { body: { password } })).then(() => end(true), setError);
				}}
			>
				<p>
					It changes who may do what, or many devices at once, and you signed in a while ago. You are not asked again
					for 15 minutes.
				</p>
				<Labelled label="Password">
					<input
						className="field"
						type="password"
						autoComplete="current-password"
						required
						data-autofocus
						value={password}
						onChange={(e) => setPassword(e.target.value)}
					/>
				</Labelled>
				{error !== undefined && <ProblemAlert error={error} />}
				<div className="flex justify-end gap-2">
					<button type="button" className="button-quiet" onClick={() => end(false)}>
						Leave it
					</button>
					<button type="submit" className="button">
						Go on
					</button>
				</div>
			</form>
		</Question>
	);
}
