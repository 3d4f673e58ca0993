import { Fingerprint } from "lucide-react";
import { useState } from "react";
import type { PasskeyChallenge, PasskeyProof } from "../api/types";
import { PasskeyError, askPasskey } from "../lib/passkeys";
import { ErrorNote } from "./Notes";

type Props = {
  isBusy: boolean;
  /** Fetches what the passkey is to be asked: it is good once. */
  challenge: () => Promise<PasskeyChallenge>;
  onProof: (proof: PasskeyProof) => void;
};

/** Asks a passkey, in the place of a code. */
export function PasskeyButton({ isBusy, challenge, onProof }: Props) {
  const [isAsking, setAsking] = useState(false);
  const [fault, setFault] = useState<unknown>();
  const onClick = async () => {
    setAsking(true);
    setFault(undefined);
    try {
      onProof(await askPasskey(await challenge()));
    } catch (error) {
      setFault(error);
    }
    setAsking(false);
  };
  return (
    <>
      <button type="button" className="btn w-full" disabled={isBusy || isAsking} onClick={() => void onClick()}>
        <Fingerprint aria-hidden className="size-4" /> Use a passkey
      </button>
      {fault instanceof PasskeyError ? <p className="text-sm text-error">{fault.message}</p> : fault !== undefined && <ErrorNote error={fault} />}
    </>
  );
}
