import { LogOut, UserRound } from "lucide-react";
import { NavLink, Outlet } from "react-router";
import { useLive } from "../api/live";
import { useSignOut } from "../api/queries";
import { may, type Roles } from "../lib/roles";
import { ThemeSwitch } from "./ThemeSwitch";
import { Wordmark } from "./Wordmark";
import { ROOT } from "../api/place";

/** The pages, with the role in the house that they take; who is on single channels sees the others. */
const PAGES = [
  { to: "/", label: "Board" },
  { to: "/findings", label: "Findings" },
  { to: "/recordings", label: "Recordings" },
  { to: "/turned-away", label: "Turned away", least: "observer" },
  { to: "/machine", label: "Machine", least: "observer" },
  { to: "/systems", label: "Systems", least: "engineer" },
  { to: "/certificate", label: "Certificate", least: "engineer" },
  { to: "/people", label: "People", least: "administrator" },
  { to: "/who-did-what", label: "Who did what", least: "administrator" },
] as const;

function link({ isActive }: { isActive: boolean }): string {
  const base = "whitespace-nowrap rounded-field px-1.5 py-1.5 text-xs sm:px-2.5 sm:text-sm font-medium hover:bg-base-300/60";
  return isActive ? `${base} bg-base-300/70` : `${base} text-base-content/75`;
}

export function Layout({ userName, roles }: { userName: string; roles: Roles }) {
  const live = useLive();
  const signOut = useSignOut();
  const onSignOut = () => signOut.mutate(undefined, { onSettled: () => window.location.assign(`${ROOT}/`) });
  return (
    <div className="min-h-dvh">
      <header className="sticky top-0 z-10 border-b border-base-300 bg-base-100/95 backdrop-blur">
        <div className="mx-auto flex max-w-6xl flex-wrap items-center gap-x-3 gap-y-1 px-4 sm:gap-x-6 py-2 sm:px-6">
          <NavLink to="/" aria-label="Waverant, board">
            <Wordmark isShort />
          </NavLink>
          <nav className="order-last flex w-full gap-0.5 overflow-x-auto sm:order-none sm:w-auto sm:gap-1" aria-label="Pages">
            {PAGES.filter((page) => !("least" in page) || may(roles, page.least)).map((page) => (
              <NavLink key={page.to} to={page.to} end className={link}>
                {page.label}
              </NavLink>
            ))}
          </nav>
          <div className="ml-auto flex items-center gap-1">
            <NavLink to="/account" className="btn btn-ghost btn-sm font-normal text-base-content/70" aria-label={`My account, ${userName}`}>
              <UserRound aria-hidden className="size-4 sm:hidden" />
              <span className="hidden sm:inline">{userName}</span>
            </NavLink>
            <ThemeSwitch />
            <button type="button" className="btn btn-ghost btn-square btn-sm" onClick={onSignOut} aria-label="Sign out">
              <LogOut className="size-4" />
            </button>
          </div>
        </div>
        {!live.isConnected && (
          <p role="alert" className="bg-warning px-4 py-1 text-center text-sm text-warning-content">
            The line to the service is broken. What you see is old; trying again.
          </p>
        )}
      </header>
      <main className="mx-auto max-w-6xl px-4 py-6 sm:px-6">
        <Outlet context={live} />
      </main>
    </div>
  );
}
