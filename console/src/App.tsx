import { Route, Routes } from "react-router";
import { CallError } from "./api/client";
import { useMe } from "./api/queries";
import { Layout } from "./components/Layout";
import { OpenLine } from "./components/OpenLine";
import { EmptyNote, ErrorNote, LoadingNote } from "./components/Notes";
import { AccountPage } from "./pages/account/AccountPage";
import { ActsPage } from "./pages/acts/ActsPage";
import { BoardPage } from "./pages/board/BoardPage";
import { OutsidePage } from "./pages/outside/OutsidePage";
import { CertificatePage } from "./pages/certificate/CertificatePage";
import { ChannelPage } from "./pages/channel/ChannelPage";
import { FindingsPage } from "./pages/findings/FindingsPage";
import { GuestPage } from "./pages/guest/GuestPage";
import { InvitationPage } from "./pages/invitation/InvitationPage";
import { MachinePage } from "./pages/machine/MachinePage";
import { PeoplePage } from "./pages/people/PeoplePage";
import { RecordingsPage } from "./pages/recordings/RecordingsPage";
import { SecondFactorFirst } from "./pages/sign-in/SecondFactorFirst";
import { SessionPage } from "./pages/session/SessionPage";
import { SignInPage } from "./pages/sign-in/SignInPage";
import { SetUpPage } from "./pages/set-up/SetUpPage";
import { SystemsPage } from "./pages/systems/SystemsPage";
import { TurnedAwayPage } from "./pages/turned-away/TurnedAwayPage";
import { ROOT } from "./api/place";

/** Who is invited has no account yet, and a guest needs none: they are asked for nothing else. */
export function App() {
  return (
    <>
      <OpenLine />
      <Place />
    </>
  );
}

function Place() {
  switch (window.location.pathname) {
    case `${ROOT}/invitation`:
      return <InvitationPage />;
    case `${ROOT}/guest`:
      return <GuestPage />;
    default:
      return <Console />;
  }
}

function Console() {
  const me = useMe();
  if (me.isPending) return <LoadingNote />;
  if (me.error instanceof CallError && me.error.code === "not_signed_in") return <SignInPage />;
  if (me.error) {
    return (
      <div className="mx-auto max-w-lg p-6">
        <ErrorNote error={me.error} />
      </div>
    );
  }
  if (me.data.lacks_second_factor) return <SecondFactorFirst name={me.data.name} />;
  return (
    <Routes>
      <Route element={<Layout userName={me.data.name} roles={me.data} />}>
        <Route index element={<BoardPage />} />
        <Route path="channels/:channel" element={<ChannelPage />} />
        <Route path="sessions/:session" element={<SessionPage />} />
        <Route path="findings" element={<FindingsPage />} />
        <Route path="machine" element={<MachinePage />} />
        <Route path="certificate" element={<CertificatePage />} />
        <Route path="outside" element={<OutsidePage />} />
        <Route path="set-up" element={<SetUpPage />} />
        <Route path="systems" element={<SystemsPage />} />
        <Route path="recordings" element={<RecordingsPage />} />
        <Route path="people" element={<PeoplePage />} />
        <Route path="who-did-what" element={<ActsPage />} />
        <Route path="account" element={<AccountPage />} />
        <Route path="turned-away" element={<TurnedAwayPage />} />
        <Route path="*" element={<EmptyNote title="There is no such page.">Go back to the board.</EmptyNote>} />
      </Route>
    </Routes>
  );
}
