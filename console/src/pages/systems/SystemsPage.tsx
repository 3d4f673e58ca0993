import { NavLink } from "react-router";
import { Allowed } from "../../components/Allowed";
import { AskedSystem } from "./AskedSystem";
import { Deliveries } from "./Deliveries";
import { ToldTargets } from "./ToldTargets";

/** Other systems of the house: what is asked of them, and what they are told. */
export function SystemsPage() {
  return (
    <>
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-2xl font-semibold tracking-tight">Other systems</h1>
        <Allowed least="administrator">
          <NavLink to="/set-up" className="btn btn-sm border-base-300 bg-base-100">
            The house as a file
          </NavLink>
        </Allowed>
      </div>
      <p className="mb-5 text-sm text-base-content/70">What else runs in the house: who is asked, for all channels that have none of their own, and who is told what happens.</p>
      <div className="space-y-5">
        <AskedSystem />
        <Allowed least="engineer">
          <ToldTargets />
          <Deliveries />
        </Allowed>
      </div>
    </>
  );
}
