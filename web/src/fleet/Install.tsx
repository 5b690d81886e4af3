import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { read } from "../api/queries";
import { CheckField } from "../parts/fields";
import { Labelled } from "../parts/Labelled";
import { ProblemAlert, Waiting } from "../parts/ProblemAlert";
import { Copyable } from "../parts/Secret";
import { save } from "../parts/save";
import { bytes } from "../parts/units";

const systems = { linux: "Linux", windows: "Windows", darwin: "macOS", file: "By file or package" } as const;

type System = keyof typeof systems;

/** How a device is given the agent with a token that was just made. */
export function Install({ token }: { token: string }) {
	const releases = useQuery(read("/agent-releases"));
	const [system, setSystem] = useState<System>("linux");
	const [screen, setScreen] = useState(true);
	const [proxy, setProxy] = useState("");
	if (releases.isPending) return <Waiting what="the releases of the agent" />;
	if (releases.isError) return <ProblemAlert error={releases.error} retry={() => releases.refetch()} />;
	const latest = releases.data.items[0];
	if (!latest) {
		return (
			<div className="space-y-2">
				<p>
					The service has no release of the agent to install from: make one with <code>make release</code>, and name its
					folder with <code>--releases</code>. With the program at hand, save the token in a file named{" "}
					<code>token</code> and run:
				</p>
				<Copyable text={token} label="the token" />
				<Copyable
					text={`moor-agent install --service ${location.origin} --token-file token`}
					label="the command that installs the agent"
				/>
			</div>
		);
	}
	const unfit = proxy !== "" && !/^https?:\/\/[\w.:-]+$/.test(proxy);
	const options = (screen ? "" : " --without screen") + (proxy ? ` --proxy ${proxy}` : "");
	return (
		<section aria-label="Install the agent" className="space-y-3">
			<div className="flex flex-wrap items-end gap-x-6 gap-y-2">
				<div role="group" aria-label="System" className="flex gap-1">
					{(Object.keys(systems) as System[]).map((s) => (
						<button
							key={s}
							type="button"
							className={s === system ? "button" : "button-quiet"}
							aria-pressed={s === system}
							onClick={() => setSystem(s)}
						>
							{systems[s]}
						</button>
					))}
				</div>
				<CheckField className="flex items-center gap-2 pb-1.5" checked={screen} onChange={setScreen}>
					with the screen
				</CheckField>
				<Labelled label="Proxy, where one is needed">
					<input
						className="field w-56"
						placeholder="http://proxy:3128"
						value={proxy}
						aria-invalid={unfit}
						onChange={(e) => setProxy(e.target.value.trim())}
					/>
				</Labelled>
			</div>
			{unfit ? (
				<p role="alert" className="rounded-md bg-rowan-tint px-3 py-2">
					A proxy is an address such as http://proxy:3128, without a name and password.
				</p>
			) : system === "file" ? (
				<ByFile
					enrolment={{
						service: location.origin,
						token,
						...(screen ? {} : { without: ["screen"] }),
						...(proxy ? { proxy } : {}),
					}}
					release={latest}
					options={options}
				/>
			) : (
				<Paste
					system={system}
					token={token}
					release={latest}
					command={releases.data.commands.find((c) => c.os === system)?.command}
					options={options}
				/>
			)}
		</section>
	);
}

function Paste(p: {
	system: Exclude<System, "file">;
	token: string;
	release: Schemas["AgentRelease"];
	command: string | undefined; // with places to fill in
	options: string;
}) {
	if (!p.command) {
		return (
			<p>
				Release {p.release.version} has no agent for {systems[p.system]}.
			</p>
		);
	}
	const command = p.command
		.replaceAll("{service}", location.origin)
		.replaceAll("{token}", p.token)
		.replaceAll("{options}", p.options);
	return (
		<div className="space-y-2">
			<p>
				{p.system === "windows"
					? "Paste it into a command prompt (cmd) that was opened as administrator."
					: "Paste it into a terminal of somebody who may use sudo."}{" "}
				It fetches release {p.release.version}, makes sure that it is what this page says, and has the device here
				within seconds. The token is in it: give it to nobody else.
			</p>
			<Copyable text={command} label="the command that installs the agent" />
		</div>
	);
}

/** Saves a program that carries an enrolment file behind its end, as core/release tells. */
async function carrying(path: string, enrolment: string) {
	const answer = await fetch(path);
	if (!answer.ok) throw new Error(`The program cannot be fetched: the service answers ${answer.status}.`);
	const text = new TextEncoder().encode(enrolment);
	const length = new DataView(new ArrayBuffer(8));
	length.setBigUint64(0, BigInt(text.length), true);
	save(
		"moor-agent-installer.exe",
		new Blob([await answer.blob(), text, length, "moorwatch enrol\n"], { type: "application/octet-stream" }),
	);
}

/** For machines without a browser, for images, and for what hands out packages. */
function ByFile({
	enrolment,
	release,
	options,
}: {
	enrolment: object;
	release: Schemas["AgentRelease"];
	options: string;
}) {
	const text = `${JSON.stringify(enrolment, null, "\t")}\n`;
	const windows = release.files.find((f) => f.kind === "program" && f.os === "windows" && f.arch === "amd64");
	const installer = useMutation({ mutationFn: (path: string) => carrying(path, text) });
	const file = (kind: string) => release.files.find((f) => f.kind === kind && f.arch === "amd64");
	const name = (f?: Schemas["AgentFile"]) => f?.path.split("/").pop();
	const ways = [
		{
			title: "Debian, Ubuntu",
			file: file("deb"),
			command: `sudo install -m 600 moor-agent.enrolment /etc/ && sudo apt-get install ./${name(file("deb"))}`,
		},
		{
			title: "Fedora, SUSE",
			file: file("rpm"),
			command: `sudo install -m 600 moor-agent.enrolment /etc/ && sudo dnf install ./${name(file("rpm"))}`,
		},
		{
			title: "Windows Installer",
			file: file("msi"),
			command: `msiexec /i ${name(file("msi"))} ENROLMENT="%CD%\\moor-agent.enrolment" /qn`,
		},
		{ title: "any other", file: undefined, command: `moor-agent install --from moor-agent.enrolment${options}` },
	];
	return (
		<div className="space-y-3">
			<p className="flex flex-wrap items-center gap-3">
				<button
					type="button"
					className="button"
					onClick={() => save("moor-agent.enrolment", new Blob([text], { type: "application/json" }))}
				>
					Save the enrolment file
				</button>
				<span className="text-faint">
					It holds the token, and is all that a machine without a browser needs beside a package.
				</span>
			</p>
			{ways
				.filter((w) => w.file || w.title === "any other")
				.map((w) => (
					<div key={w.title} className="space-y-1">
						<p>
							{w.title === "any other" ? "With the program alone" : w.title}
							{w.file && (
								<>
									{": "}
									<a className="link" href={w.file.path} download>
										{name(w.file)}
									</a>{" "}
									<span className="text-faint text-sm">{bytes(w.file.size)}</span>
								</>
							)}
						</p>
						<Copyable text={w.command} label={`the command for ${w.title}`} />
					</div>
				))}
			{windows && (
				<div className="space-y-1">
					<p className="flex flex-wrap items-center gap-3">
						<button
							type="button"
							className="button-quiet"
							disabled={installer.isPending}
							onClick={() => installer.mutate(windows.path)}
						>
							{installer.isPending ? "Making it …" : "Save an installer for Windows (.exe)"}
						</button>
						<span className="text-faint">
							One file with the token in it, which asks nothing: run it as administrator, or have it handed out.
						</span>
					</p>
					{installer.isError && <ProblemAlert error={installer.error} />}
				</div>
			)}
			<details>
				<summary className="cursor-pointer">Programs of release {release.version}</summary>
				<ul className="mt-1 columns-2">
					{release.files.map((f) => (
						<li key={f.path}>
							<a className="link" href={f.path} download>
								{name(f)}
							</a>{" "}
							<span className="text-faint text-sm">{bytes(f.size)}</span>
						</li>
					))}
				</ul>
			</details>
		</div>
	);
}
