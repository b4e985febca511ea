import { useQuery } from "@tanstack/react-query";
import { Navigate, Route, Routes } from "react-router";
import { Refused, session } from "./api/client";
import { CheckPage } from "./check/page";
import { DevicesPage } from "./devices/page";
import { GrantsPage } from "./grants/page";
import { PeoplePage } from "./people/page";
import { RecordPage } from "./records/page";
import { Frame } from "./session/frame";
import { SignInPage } from "./session/sign-in";
import { Busy, Trouble } from "./ui/notice";
import { say } from "./words";

export function App() {
  const who = useQuery({ queryKey: ["session"], queryFn: session, staleTime: 60_000 });
  if (who.isPending) return <Busy />;
  if (who.error instanceof Refused && who.error.status === 401) return <SignInPage />;
  if (who.error) return <Trouble error={who.error} />;
  return (
    <Frame session={who.data}>
      <Routes>
        <Route path="/" element={<Navigate to="/check" replace />} />
        <Route path="/check" element={<CheckPage />} />
        <Route path="/devices" element={<DevicesPage />} />
        <Route path="/people" element={<PeoplePage type="users" />} />
        <Route path="/people/groups" element={<PeoplePage type="user_groups" />} />
        <Route path="/grants" element={<GrantsPage />} />
        <Route path="/records/:type/:id" element={<RecordPage />} />
        <Route path="*" element={<Trouble error={new Error(say("console.nothing_here"))} />} />
      </Routes>
    </Frame>
  );
}
