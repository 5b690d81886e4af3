import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, type ReactNode, useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { meQuery } from "../api/me";
import { read, readAnew } from "../api/queries";
import { TextField } from "../parts/fields";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Copyable } from "../parts/Secret";
import { Table } from "../parts/Table";
import { Ago } from "../parts/time";
import { GrantWords } from "./People";
import { makePasskey } from "./passkey";
import { Tokens } from "./Tokens";

/** The signed-in person's own page: their roles, second factors, sign-ins and API tokens. */
export function Account() {
	const me = useQuery(meQuery).data;
	if (!me) return null;
	return (
		<div className="mx-auto max-w-4xl space-y-8 px-5 py-5">
			<header>
				<h1 className="text-xl font-semibold">{me.name}</h1>
				<p className="text-faint">{me.email}</p>
				<GrantWords all={me.grants} />
			</header>
			{me.must_add_factor && (
				<p role="alert" className="rounded-md bg-rowan-tint px-3 py-2">
					The sign-in policy asks for a second factor. Add one below: everything else opens after that.
				</p>
			)}
			<Factors />
			{!me.must_add_factor && (
				<>
					<Password />
					<SignIns />
					<Tokens />
				</>
			)}
		</div>
	);
}

type Action = "code" | "passkey" | "recovery" | { remove: "code" | Schemas["Passkey"] };

function Factors() {
	const queries = useQueryClient();
	const [action, setAction] = useState<Action>();
	const [codes, setCodes] = useState<string[]>();
	const factors = useQuery(read("/me/factors"));
	if (factors.isPending) return <Waiting what="your second factors" />;
	if (factors.isError) return <ProblemAlert error={factors.error} retry={() => factors.refetch()} />;
	const f = factors.data;
	const done = (made?: string[]) => {
		setAction(undefined);
		if (made?.length) setCodes(made);
		readAnew(queries, "/me/factors");
		queries.invalidateQueries({ queryKey: meQuery.queryKey });
	};
	const some = f.code_since !== undefined || f.passkeys.length > 0;
	return (
		<section aria-label="Second factors">
			<h2 className="text-lg font-semibold">Second factors</h2>
			<p className="mb-2 text-faint">
				{some
					? "Signing in asks for one of these after the password."
					: "Whoever learns your password can sign in as you. A second factor prevents that."}
			</p>
			{codes && <Recovery codes={codes} onDone={() => setCodes(undefined)} />}
			<ul className="divide-y divide-line border-line border-y">
				<Row
					title="Authenticator"
					state={
						f.code_since ? (
							<>
								since <Ago at={f.code_since} />
							</>
						) : (
							"none: an app that shows a code of six digits"
						)
					}
				>
					{f.code_since ? (
						<button type="button" className="button-quiet" onClick={() => setAction({ remove: "code" })}>
							Remove<span className="sr-only"> the authenticator</span>
						</button>
					) : (
						<button type="button" className="button-quiet" onClick={() => setAction("code")}>
							Add an authenticator
						</button>
					)}
				</Row>
				{f.passkeys.map((k) => (
					<Row
						key={k.id}
						title={`Passkey ${k.name}`}
						state={
							<>
								added <Ago at={k.added_at} />,{" "}
								{k.last_used_at ? <Ago at={k.last_used_at} suffix=" last used" /> : "not used yet"}
							</>
						}
					>
						<button type="button" className="button-quiet" onClick={() => setAction({ remove: k })}>
							Remove<span className="sr-only"> the passkey {k.name}</span>
						</button>
					</Row>
				))}
				<Row
					title={f.passkeys.length ? "Another passkey" : "Passkey"}
					state={f.passkeys_here || "kept by this computer, a telephone or a security key"}
				>
					<button
						type="button"
						className="button-quiet"
						disabled={f.passkeys_here !== ""}
						onClick={() => setAction("passkey")}
					>
						Add a passkey
					</button>
				</Row>
				{some && (
					<Row title="Recovery codes" state={`${f.recovery_codes} left, each for one sign-in without the others`}>
						<button type="button" className="button-quiet" onClick={() => setAction("recovery")}>
							Make new ones
						</button>
					</Row>
				)}
			</ul>
			{action && (
				<FactorForm key={JSON.stringify(action)} action={action} onDone={done} onCancel={() => setAction(undefined)} />
			)}
		</section>
	);
}

function Row({ title, state, children }: { title: string; state: ReactNode; children: ReactNode }) {
	return (
		<li className="flex items-center gap-3 py-1.5">
			<span className="w-56 font-medium">{title}</span>
			<span className="flex-1 text-faint">{state}</span>
			{children}
		</li>
	);
}

/** What is done to second factors asks for the password first. */
function FactorForm({
	action,
	onDone,
	onCancel,
}: {
	action: Action;
	onDone: (codes?: string[]) => void;
	onCancel: () => void;
}) {
	const [password, setPassword] = useState("");
	const [name, setName] = useState("this computer");
	const [code, setCode] = useState("");
	const [begun, setBegun] = useState<Schemas["NewCode"]>();
	const act = useMutation({
		mutationFn: async () => {
			if (begun) return (await answer(api.PUT("/me/factors/code", { body: { code } }))).codes;
			if (action === "code") {
				setBegun(await answer(api.POST("/me/factors/code", { body: { password } })));
				return null;
			}
			if (action === "recovery") return (await answer(api.POST("/me/factors/recovery", { body: { password } }))).codes;
			if (action === "passkey") {
				const options = await answer(api.POST("/me/factors/passkey", { body: { password } }));
				const passkey = await makePasskey(options as Record<string, unknown>);
				return (await answer(api.PUT("/me/factors/passkey", { body: { name, passkey } }))).codes;
			}
			const passkey = action.remove === "code" ? undefined : action.remove.id;
			await answer(api.POST("/me/factors/removal", { body: { password, passkey } }));
			return [];
		},
		onSuccess: (made) => made && onDone(made),
	});
	const submit = (e: FormEvent) => {
		e.preventDefault();
		act.mutate();
	};
	return (
		<form className="mt-3 space-y-3 rounded-md border border-line bg-panel p-4" onSubmit={submit}>
			{begun ? (
				<div className="flex gap-5">
					<img
						src={`data:image/png;base64,${begun.picture}`}
						alt="The address for the authenticator, as a QR code"
						className="size-44 rounded border border-line bg-white"
					/>
					<div className="flex-1 space-y-3">
						<p>Read the picture with the authenticator, or type this into it:</p>
						<Copyable text={begun.secret} label="the secret" />
						<div className="w-48">
							<TextField
								label="The code that it shows now"
								className="tabular-nums"
								inputMode="numeric"
								autoComplete="one-time-code"
								required
								autoFocus
								value={code}
								onChange={setCode}
							/>
						</div>
					</div>
				</div>
			) : (
				<div className="flex gap-3">
					<PasswordField label="Your password" focus value={password} onChange={setPassword} />
					{action === "passkey" && (
						<div className="w-64">
							<TextField label="A name for the passkey" required maxLength={60} value={name} onChange={setName} />
						</div>
					)}
				</div>
			)}
			<div className="flex gap-2">
				<button type="submit" className="button" disabled={act.isPending}>
					{typeof action === "object" ? "Remove it" : begun ? "Confirm" : "Go on"}
				</button>
				<button type="button" className="button-quiet" onClick={onCancel}>
					Cancel
				</button>
			</div>
			{act.isError && <ProblemAlert error={act.error} />}
		</form>
	);
}

function Recovery({ codes, onDone }: { codes: string[]; onDone: () => void }) {
	return (
		<div className="mb-3 space-y-2 rounded-md border border-line bg-panel p-4" role="status">
			<p>
				<strong>Recovery codes.</strong> Each signs you in once when the second factor is lost. Keep them where the
				computer cannot lose them: they are not shown again.
			</p>
			<Copyable text={codes.join("\n")} label="the recovery codes" />
			<button type="button" className="button-quiet" onClick={onDone}>
				I have kept them
			</button>
		</div>
	);
}

function PasswordField({
	label,
	fresh = false,
	focus = false,
	value,
	onChange,
}: {
	label: string;
	fresh?: boolean; // it is chosen here
	focus?: boolean;
	value: string;
	onChange: (text: string) => void;
}) {
	return (
		<div className="w-64">
			<TextField
				label={label}
				type="password"
				autoComplete={fresh ? "new-password" : "current-password"}
				minLength={fresh ? 10 : undefined}
				required
				autoFocus={focus}
				value={value}
				onChange={onChange}
			/>
		</div>
	);
}

function Password() {
	const [open, setOpen] = useState(false);
	const [password, setPassword] = useState("");
	const [fresh, setFresh] = useState("");
	const queries = useQueryClient();
	const set = useMutation({
		mutationFn: () => answer(api.PUT("/me/password", { body: { password, new: fresh } })),
		onSuccess: () => {
			setOpen(false);
			setPassword("");
			setFresh("");
			readAnew(queries, "/me/sign-ins");
		},
	});
	return (
		<section aria-label="Password">
			<h2 className="mb-1 text-lg font-semibold">Password</h2>
			{set.isSuccess && !open && <p role="status">It is changed. Every other sign-in of yours has ended.</p>}
			{!open ? (
				<button type="button" className="button-quiet -ml-2.5" onClick={() => setOpen(true)}>
					Choose another
				</button>
			) : (
				<form
					className="flex flex-wrap items-end gap-3"
					onSubmit={(e) => {
						e.preventDefault();
						set.mutate();
					}}
				>
					<PasswordField label="The one that you have" value={password} onChange={setPassword} />
					<PasswordField label="The new one" fresh value={fresh} onChange={setFresh} />
					<button type="submit" className="button" disabled={set.isPending}>
						Change it
					</button>
					<button type="button" className="button-quiet" onClick={() => setOpen(false)}>
						Cancel
					</button>
					{set.isError && <ProblemAlert error={set.error} />}
				</form>
			)}
		</section>
	);
}

function SignIns() {
	const queries = useQueryClient();
	const list = useQuery(read("/me/sign-ins"));
	const end = useMutation({
		mutationFn: (id: string) => answer(api.DELETE("/me/sign-ins/{id}", { params: { path: { id } } })),
		onSettled: () => readAnew(queries, "/me/sign-ins"),
	});
	return (
		<section aria-label="Where you are signed in">
			<h2 className="mb-2 text-lg font-semibold">Where you are signed in</h2>
			{list.isError && <ProblemAlert error={list.error} />}
			{end.isError && <ProblemAlert error={end.error} />}
			{list.data && (
				<Table
					rows={list.data.items}
					id={(s) => s.id}
					columns={[
						{ head: "From", className: "tabular-nums", value: (s) => s.address },
						{ head: "With", title: (s) => s.browser, className: "max-w-64 truncate", show: (s) => browser(s.browser) },
						{ head: "Signed in", value: (s) => s.created_at, show: (s) => <Ago at={s.created_at} /> },
						{
							head: "Last used",
							value: (s) => s.last_used_at,
							show: (s) => s.last_used_at && <Ago at={s.last_used_at} />,
						},
						{
							head: "",
							actions: true,
							show: (s) =>
								s.current ? (
									<span className="px-2.5 text-faint">here</span>
								) : (
									<button
										type="button"
										className="button-quiet"
										aria-label={`Sign out at ${s.address}`}
										onClick={() => end.mutate(s.id)}
									>
										Sign out
									</button>
								),
						},
					]}
				/>
			)}
		</section>
	);
}

/** The system in what a browser says of itself, where it can be told. */
function browser(agent: string) {
	const system = /Windows|Mac OS X|Android|iPhone|iPad|Linux/.exec(agent)?.[0];
	return system ? `a browser on ${system.replace("Mac OS X", "macOS")}` : agent || "unknown";
}
