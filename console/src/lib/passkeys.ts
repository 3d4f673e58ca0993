import type { PasskeyChallenge, PasskeyProof } from "../api/types";

/** True if this browser takes passkeys here: over HTTPS, and for a host that has a name. */
export function canUsePasskeys(): boolean {
  const isAddress = /^[\d.]+$|:/.test(window.location.hostname);
  const knows = "PublicKeyCredential" in window && typeof PublicKeyCredential.parseRequestOptionsFromJSON === "function";
  return window.isSecureContext && knows && !isAddress;
}

/** What went wrong between browser and device, in words. */
export class PasskeyError extends Error {}

function explained(error: unknown): PasskeyError {
  const name = error instanceof DOMException ? error.name : "";
  if (name === "NotAllowedError") return new PasskeyError("Nothing was chosen, or it took too long. Try again.");
  if (name === "InvalidStateError") return new PasskeyError("This device has a passkey for you here already.");
  return new PasskeyError(`The browser could not do it: ${String(error)}`);
}

/** Has the browser make a passkey; what it says. */
export async function makePasskey({ options }: PasskeyChallenge): Promise<Record<string, never>> {
  try {
    const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(options as unknown as PublicKeyCredentialCreationOptionsJSON);
    return said(await navigator.credentials.create({ publicKey }));
  } catch (error) {
    throw explained(error);
  }
}

/** Has the browser ask a passkey; what it says. */
export async function askPasskey({ ceremony, options }: PasskeyChallenge): Promise<PasskeyProof> {
  try {
    const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(options as unknown as PublicKeyCredentialRequestOptionsJSON);
    return { ceremony, credential: said(await navigator.credentials.get({ publicKey })) };
  } catch (error) {
    throw explained(error);
  }
}

function said(credential: Credential | null): Record<string, never> {
  if (!(credential instanceof PublicKeyCredential)) throw new DOMException("nothing came", "NotAllowedError");
  return credential.toJSON() as Record<string, never>;
}
