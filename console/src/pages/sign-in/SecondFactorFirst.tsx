import { useSignOut } from "../../api/queries";
import { Wordmark } from "../../components/Wordmark";
import { SecondFactor } from "../account/SecondFactor";

/** The rules of the house ask for a second factor, and nothing else is open before. */
export function SecondFactorFirst({ name }: { name: string }) {
  const signOut = useSignOut();
  return (
    <main className="mx-auto max-w-2xl space-y-6 p-4 sm:py-12">
      <div className="flex items-center justify-between">
        <Wordmark />
        <button type="button" className="btn btn-ghost btn-sm" onClick={() => signOut.mutate(undefined)}>
          Sign out {name}
        </button>
      </div>
      <SecondFactor />
    </main>
  );
}
