// Passkeys: what the service and the browser say to each other (WebAuthn Level 2), with bytes as
// base64url in what goes over the wire.

type Json = Record<string, unknown>;

function bytes(text: unknown): ArrayBuffer {
	const plain = atob(String(text).replaceAll("-", "+").replaceAll("_", "/"));
	return Uint8Array.from(plain, (c) => c.charCodeAt(0)).buffer;
}

function text(buffer: ArrayBuffer): string {
	return btoa(String.fromCharCode(...new Uint8Array(buffer)))
		.replaceAll("+", "-")
		.replaceAll("/", "_")
		.replaceAll("=", "");
}

const described = (all: unknown) =>
	((all as Json[] | undefined) ?? []).map((c) => ({
		...c,
		id: bytes(c.id),
	})) as unknown as PublicKeyCredentialDescriptor[];

/** Has the browser make a passkey, and gives what the service is told of it. */
export async function makePasskey(options: Json): Promise<Json> {
	const p = options.publicKey as Json;
	const user = p.user as Json;
	const made = (await navigator.credentials.create({
		publicKey: {
			...(p as unknown as PublicKeyCredentialCreationOptions),
			challenge: bytes(p.challenge),
			user: { ...(user as unknown as PublicKeyCredentialUserEntity), id: bytes(user.id) },
			excludeCredentials: described(p.excludeCredentials),
		},
	})) as PublicKeyCredential;
	const answer = made.response as AuthenticatorAttestationResponse;
	return {
		id: made.id,
		rawId: text(made.rawId),
		type: made.type,
		response: {
			clientDataJSON: text(answer.clientDataJSON),
			attestationObject: text(answer.attestationObject),
			transports: answer.getTransports?.() ?? [],
		},
	};
}

/** Has the browser prove a passkey. */
export async function provePasskey(options: Json): Promise<Json> {
	const p = options.publicKey as Json;
	const proof = (await navigator.credentials.get({
		publicKey: {
			...(p as unknown as PublicKeyCredentialRequestOptions),
			challenge: bytes(p.challenge),
			allowCredentials: described(p.allowCredentials),
		},
	})) as PublicKeyCredential;
	const answer = proof.response as AuthenticatorAssertionResponse;
	return {
		id: proof.id,
		rawId: text(proof.rawId),
		type: proof.type,
		response: {
			clientDataJSON: text(answer.clientDataJSON),
			authenticatorData: text(answer.authenticatorData),
			signature: text(answer.signature),
			userHandle: answer.userHandle ? text(answer.userHandle) : undefined,
		},
	};
}
