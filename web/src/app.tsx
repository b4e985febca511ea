import { useQuery } from "@tanstack/react-query";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { ApiError, needsSetUp, session } from "./api/client";
import { AuditPage } from "./audit/page";
import { CheckPage } from "./check/page";
import { CalendarListPage } from "./calendars/list";
import { DeviceGroupListPage } from "./device-groups/list";
import { DeviceListPage } from "./devices/list";
import { GrantListPage } from "./grants/list";
import { GroupListPage } from "./groups/list";
import { KindListPage } from "./kinds/list";
import { MandateListPage } from "./mandates/list";
import { MatrixPage } from "./matrix/page";
import { PeopleListPage } from "./people/list";
import { PolicyPage } from "./policy/page";
import { SeenPage } from "./reach/seen";
import { EditPage } from "./records/edit-page";
import { RecordPage } from "./records/record-page";
import { RightListPage } from "./rights/list";
import { RoleListPage } from "./roles/list";
import { ScheduleListPage } from "./schedules/list";
import { AccountPage } from "./session/account";
import { Frame } from "./session/frame";
import { useReads } from "./session/mandates";
import { useOwnLook, usePreferences } from "./session/preferences";
import { OrderPage } from "./session/order";
import { SetUpPage } from "./session/set-up";
import { SignInPage } from "./session/sign-in";
import { WelcomePage } from "./session/welcome";
import { ServicePage } from "./session/service";
import { TodayPage } from "./today/page";
import { SheetsPage } from "./sheets/page";
import { SiteListPage } from "./sites/list";
import { ToastArea } from "./ui/toast";
import { Busy, Trouble } from "./ui/notice";
import { t } from "./words";

/** Outside is what whoever is not signed in meets: the way in, or, where nobody could sign in yet, the way to the first owner. */
function Outside() {
  const waits = useQuery({ queryKey: ["set-up"], queryFn: needsSetUp });
  if (waits.isPending) return <Busy />;
  return waits.data ? <SetUpPage /> : <SignInPage />;
}

export function App() {
  const at = useLocation();
  const who = useQuery({ queryKey: ["session"], queryFn: session, staleTime: 60_000 });
  const reads = useReads();
  const known = useOwnLook(who.isSuccess);
  const [{ landing = "today" }] = usePreferences();
  if (at.pathname === "/welcome") return <WelcomePage />;
  if (who.isPending) return <Busy />;
  if (who.error instanceof ApiError && who.error.status === 401) return <Outside />;
  if (who.error) return <Trouble error={who.error} />;
  if (who.data.setup.length > 0) return <OrderPage session={who.data} />;
  if (!known) return <Busy />;
  return (
    <ToastArea>
      <Frame session={who.data}>
        <Routes>
          <Route path="/" element={!reads ? <Navigate to="/mine" replace /> : landing === "today" ? <TodayPage /> : <Navigate to={`/${landing}`} replace />} />
          <Route path="/today" element={<TodayPage />} />
          <Route path="/mine" element={<SeenPage own={who.data.user.id} />} />
          <Route path="/account" element={<AccountPage />} />
          <Route path="/check" element={<CheckPage />} />
          <Route path="/devices" element={<DeviceListPage />} />
          <Route path="/people" element={<PeopleListPage />} />
          <Route path="/people/groups" element={<GroupListPage />} />
          <Route path="/grants" element={<GrantListPage />} />
          <Route path="/times" element={<ScheduleListPage />} />
          <Route path="/times/calendars" element={<CalendarListPage />} />
          <Route path="/rights" element={<RightListPage />} />
          <Route path="/rights/roles" element={<RoleListPage />} />
          <Route path="/rights/kinds" element={<KindListPage />} />
          <Route path="/devices/groups" element={<DeviceGroupListPage />} />
          <Route path="/devices/sites" element={<SiteListPage />} />
          <Route path="/people/mandates" element={<MandateListPage />} />
          <Route path="/people/:id/seen" element={<SeenPage />} />
          <Route path="/matrix" element={<MatrixPage />} />
          <Route path="/record" element={<AuditPage />} />
          <Route path="/service" element={<ServicePage />} />
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
