import { Route, Routes } from "react-router";
import { CallError } from "./api/client";
import { useMe } from "./api/queries";
import { Layout } from "./components/Layout";
import { EmptyNote, ErrorNote, LoadingNote } from "./components/Notes";
import { BoardPage } from "./pages/board/BoardPage";
import { ChannelPage } from "./pages/channel/ChannelPage";
import { FindingsPage } from "./pages/findings/FindingsPage";
import { MachinePage } from "./pages/machine/MachinePage";
import { RecordingsPage } from "./pages/recordings/RecordingsPage";
import { SessionPage } from "./pages/session/SessionPage";
import { SignInPage } from "./pages/sign-in/SignInPage";
import { TurnedAwayPage } from "./pages/turned-away/TurnedAwayPage";

export function App() {
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
  return (
    <Routes>
      <Route element={<Layout userName={me.data.name} />}>
        <Route index element={<BoardPage />} />
        <Route path="channels/:channel" element={<ChannelPage />} />
        <Route path="sessions/:session" element={<SessionPage />} />
        <Route path="findings" element={<FindingsPage />} />
        <Route path="machine" element={<MachinePage />} />
        <Route path="recordings" element={<RecordingsPage />} />
        <Route path="turned-away" element={<TurnedAwayPage />} />
        <Route path="*" element={<EmptyNote title="There is no such page.">Go back to the board.</EmptyNote>} />
      </Route>
    </Routes>
  );
}
