import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, rememberCsrf } from "../api/client";
import { Trouble } from "../parts/Trouble";
import { Door, Labelled } from "./Door";
import { meQuery } from "./me";

/** The sign-in page. */
export function SignIn() {
	const queries = useQueryClient();
	const [email, setEmail] = useState("");
	const [password, setPassword] = useState("");
	const signIn = useMutation({
		mutationFn: () => answer(api.POST("/session", { body: { email, password } })),
		onSuccess: (me) => {
			rememberCsrf(me.csrf);
			queries.setQueryData(meQuery.queryKey, me);
		},
	});
	return (
		<Door title="Sign in">
			<form
				className="space-y-4"
				onSubmit={(e) => {
					e.preventDefault();
					signIn.mutate();
				}}
			>
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
				{signIn.isError && <Trouble error={signIn.error} />}
				<button type="submit" className="button w-full justify-center py-2" disabled={signIn.isPending}>
					{signIn.isPending ? "Signing in…" : "Sign in"}
				</button>
			</form>
		</Door>
	);
}
