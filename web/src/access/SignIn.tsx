import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, ProblemError, rememberCsrf, type Schemas } from "../api/client";
import { meQuery } from "../api/me";
import { TextField } from "../parts/fields";
import { Labelled } from "../parts/Labelled";
import { ProblemAlert } from "../parts/ProblemAlert";
import { Door } from "./Door";
import { forgetIdle, takeIdle } from "./idle";
import { provePasskey } from "./passkey";

/** The sign-in page. */
export function SignIn() {
	const queries = useQueryClient();
	const [email, setEmail] = useState("");
	const [password, setPassword] = useState("");
	const [code, setCode] = useState("");
	const [factors, setFactors] = useState<string[]>();
	const idle = takeIdle();
	const enter = (me: Schemas["Me"]) => {
		forgetIdle();
		rememberCsrf(me.csrf);
		queries.setQueryData(meQuery.queryKey, me);
	};
	const signIn = useMutation({
		mutationFn: () => answer(api.POST("/session", { body: { email, password, code: code || undefined } })),
		onError: () => setCode(""),
		onSuccess: (next) => {
			if ("factors" in next) setFactors(next.factors);
			else enter(next);
		},
	});
	const locked = signIn.error instanceof ProblemError && signIn.error.problem.status === 429;
	if (factors) return <Second factors={factors} onIn={enter} onBack={() => setFactors(undefined)} />;
	return (
		<Door title="Sign in">
			<form
				className="space-y-4"
				onSubmit={(e) => {
					e.preventDefault();
					signIn.mutate();
				}}
			>
				{idle && <p role="status">You were signed out: nothing was done for {idle} minutes.</p>}
				<Labelled label="E-mail">
					<input
						className="field"
						type="email"
						name="email"
						autoComplete="username"
						required
						value={email}
						onChange={(e) => setEmail(e.target.value)}
					/>
				</Labelled>
				<Labelled label="Password">
					<input
						className="field"
						type="password"
						name="password"
						autoComplete="current-password"
						required
						value={password}
						onChange={(e) => setPassword(e.target.value)}
					/>
				</Labelled>
				{locked && (
					<TextField
						label="Code of your authenticator, to sign in all the same"
						className="tabular-nums"
						inputMode="numeric"
						autoComplete="one-time-code"
						value={code}
						onChange={setCode}
					/>
				)}
				{signIn.isError && <ProblemAlert error={signIn.error} />}
				<button type="submit" className="button w-full justify-center py-2" disabled={signIn.isPending}>
					{signIn.isPending ? "Signing in…" : "Sign in"}
				</button>
			</form>
		</Door>
	);
}

/** The step after the password, for those who have a second factor. */
function Second({
	factors,
	onIn,
	onBack,
}: {
	factors: string[];
	onIn: (me: Schemas["Me"]) => void;
	onBack: () => void;
}) {
	const [way, setWay] = useState(factors[0] ?? "recovery");
	const [text, setText] = useState("");
	const give = useMutation({
		mutationFn: async () => {
			if (way !== "passkey") return answer(api.POST("/session/second", { body: { [way]: text } }));
			const options = await answer(api.POST("/session/passkey"));
			const passkey = await provePasskey(options as Record<string, unknown>);
			return answer(api.POST("/session/second", { body: { passkey } }));
		},
		onSuccess: onIn,
		onError: () => setText(""),
	});
	const other: Record<string, string> = {
		passkey: "Use a passkey",
		code: "Use the authenticator",
		recovery: "Use a recovery code",
	};
	return (
		<Door title="One thing more">
			<form
				className="space-y-4"
				onSubmit={(e) => {
					e.preventDefault();
					give.mutate();
				}}
			>
				{way === "passkey" ? (
					<p>Your browser will ask for the passkey.</p>
				) : (
					<Labelled label={way === "code" ? "The code that your authenticator shows" : "A recovery code"}>
						<input
							key={way}
							className="field tabular-nums"
							inputMode={way === "code" ? "numeric" : "text"}
							autoComplete={way === "code" ? "one-time-code" : "off"}
							required
							// biome-ignore lint/a11y/noAutofocus: the person asked for this step
							autoFocus
							value={text}
							onChange={(e) => setText(e.target.value)}
						/>
					</Labelled>
				)}
				{give.isError && <ProblemAlert error={give.error} />}
				<button type="submit" className="button w-full justify-center py-2" disabled={give.isPending}>
					{way === "passkey" ? "Use the passkey" : "Sign in"}
				</button>
				<div className="flex flex-wrap justify-between">
					{factors
						.filter((f) => f !== way)
						.map((f) => (
							<button key={f} type="button" className="button-quiet" onClick={() => setWay(f)}>
								{other[f]}
							</button>
						))}
					<button type="button" className="button-quiet" onClick={onBack}>
						Back
					</button>
				</div>
			</form>
		</Door>
	);
}
