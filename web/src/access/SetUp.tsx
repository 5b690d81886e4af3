import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { answer, api, rememberCsrf } from "../api/client";
import { meQuery } from "../api/me";
import { TextField } from "../parts/fields";
import { ProblemAlert } from "../parts/ProblemAlert";
import { Door } from "./Door";

/** The page of a one-time set-up link. Its secret stands after the '#', where no server sees it. */
export function SetUp() {
	const { hash, search } = useLocation();
	const navigate = useNavigate();
	const queries = useQueryClient();
	const first = search.includes("first");
	const [name, setName] = useState("");
	const [email, setEmail] = useState("");
	const [password, setPassword] = useState("");
	const setUp = useMutation({
		mutationFn: () => answer(api.POST("/set-up", { body: { link: hash.slice(1), password, name, email } })),
		onSuccess: (me) => {
			rememberCsrf(me.csrf);
			queries.setQueryData(meQuery.queryKey, me);
			navigate("/", { replace: true });
		},
	});
	return (
		<Door title={first ? "Set up the first owner" : "Choose your password"}>
			<form
				className="space-y-4"
				onSubmit={(e) => {
					e.preventDefault();
					setUp.mutate();
				}}
			>
				{first && (
					<>
						<TextField label="Your name" autoComplete="name" required value={name} onChange={setName} />
						<TextField
							label="Your e-mail"
							type="email"
							autoComplete="username"
							required
							value={email}
							onChange={setEmail}
						/>
					</>
				)}
				<TextField
					label="New password"
					hint="At least 12 characters; a few unrelated words are easiest to remember."
					type="password"
					autoComplete="new-password"
					required
					minLength={10}
					value={password}
					onChange={setPassword}
				/>
				{setUp.isError && <ProblemAlert error={setUp.error} />}
				<button type="submit" className="button w-full justify-center py-2" disabled={setUp.isPending}>
					Set up and sign in
				</button>
			</form>
		</Door>
	);
}
