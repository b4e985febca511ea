import { useQuery } from "@tanstack/react-query";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { ApiError, session } from "./api/client";
import { CheckPage } from "./check/page";
import { DeviceListPage, DevicesPage } from "./devices/page";
import { EditPage } from "./edit/page";
import { GrantsPage } from "./grants/page";
import { MatrixPage } from "./matrix/page";
import { PeoplePage } from "./people/page";
import { PolicyPage } from "./policy/page";
import { SeenPage } from "./reach/seen";
import { RecordPage } from "./records/page";
import { RightsPage } from "./rights/page";
import { AccountPage } from "./session/account";
import { Frame } from "./session/frame";
import { useReads } from "./session/mandates";
import { SignInPage } from "./session/sign-in";
import { WelcomePage } from "./session/welcome";
import { SheetsPage } from "./sheets/page";
import { TimesPage } from "./times/page";
import { ToastArea } from "./ui/toast";
import { Busy, Trouble } from "./ui/notice";
import { t } from "./words";

export function App() {
  const at = useLocation();
  const who = useQuery({ queryKey: ["session"], queryFn: session, staleTime: 60_000 });
  const reads = useReads();
  if (at.pathname === "/welcome") return <WelcomePage />;
  if (who.isPending) return <Busy />;
  if (who.error instanceof ApiError && who.error.status === 401) return <SignInPage />;
  if (who.error) return <Trouble error={who.error} />;
  return (
    <ToastArea>
      <Frame session={who.data}>
        <Routes>
          <Route path="/" element={<Navigate to={reads ? "/check" : "/mine"} replace />} />
          <Route path="/mine" element={<SeenPage own={who.data.user.id} />} />
          <Route path="/account" element={<AccountPage />} />
          <Route path="/check" element={<CheckPage />} />
          <Route path="/devices" element={<DevicesPage />} />
          <Route path="/people" element={<PeoplePage type="users" />} />
          <Route path="/people/groups" element={<PeoplePage type="user_groups" />} />
          <Route path="/grants" element={<GrantsPage />} />
          <Route path="/times" element={<TimesPage type="schedules" />} />
          <Route path="/times/calendars" element={<TimesPage type="calendars" />} />
          <Route path="/rights" element={<RightsPage type="rights" />} />
          <Route path="/rights/roles" element={<RightsPage type="roles" />} />
          <Route path="/rights/kinds" element={<RightsPage type="kinds" />} />
          <Route path="/devices/groups" element={<DeviceListPage type="device_groups" />} />
          <Route path="/devices/sites" element={<DeviceListPage type="sites" />} />
          <Route path="/people/mandates" element={<PeoplePage type="mandates" />} />
          <Route path="/people/:id/seen" element={<SeenPage />} />
          <Route path="/matrix" element={<MatrixPage />} />
          <Route path="/policy" element={<PolicyPage />} />
          <Route path="/sheets" element={<SheetsPage />} />
          <Route path="/records/:type/new" element={<EditPage />} />
          <Route path="/records/:type/:id/edit" element={<EditPage />} />
          <Route path="/records/:type/:id" element={<RecordPage />} />
          <Route path="*" element={<Trouble error={new Error(t("console.nothing_here"))} />} />
        </Routes>
      </Frame>
    </ToastArea>
  );
}
