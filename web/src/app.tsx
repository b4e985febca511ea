import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { ApiError, needsSetUp, session } from "./api/client";
import { AuditPage } from "./audit/page";
import { CheckPage } from "./check/page";
import { CalendarListPage } from "./calendars/list";
import { DeviceGroupListPage } from "./device-groups/list";
import { DeviceListPage } from "./devices/list";
import { DraftListPage } from "./drafts/list";
import { DraftPage } from "./drafts/page";
import { ReviewListPage } from "./reviews/list";
import { ReviewPage } from "./reviews/page";
import { ExpectationListPage } from "./expectations/list";
import { GrantListPage } from "./grants/list";
import { GroupListPage } from "./groups/list";
import { HistoryPage } from "./history/page";
import { KindListPage } from "./kinds/list";
import { MachinesPage } from "./machines/page";
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
import { useReads, useWhole } from "./session/mandates";
import { useOwnLook, usePreferences } from "./session/preferences";
import { OrderPage } from "./session/order";
import { SetUpPage } from "./session/set-up";
import { SignInPage } from "./session/sign-in";
import { WelcomePage } from "./session/welcome";
import { ServicePage } from "./session/service";
import { TodayPage } from "./today/page";
import { SheetsPage } from "./sheets/page";
import { SiteListPage } from "./sites/list";
import { SourceEditorPage } from "./sources/editor";
import { SourceListPage } from "./sources/list";
import { SourcePage } from "./sources/page";
import { UpkeepPage } from "./upkeep/page";
import { ToastArea } from "./ui/toast";
import { Busy, NotYours, Trouble } from "./ui/notice";
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
  const whole = useWhole();
  const known = useOwnLook(who.isSuccess);
  const [{ landing = "today" }] = usePreferences();
  if (at.pathname === "/welcome") return <WelcomePage />;
  if (who.isPending) return <Busy />;
  if (who.error instanceof ApiError && who.error.status === 401) return <Outside />;
  if (who.error) return <Trouble error={who.error} />;
  if (who.data.setup.length > 0) return <OrderPage session={who.data} />;
  if (!known) return <Busy />;
  // What a page offers is for those to whom the service answers it.
  const read = (page: ReactNode) => (reads ? page : <NotYours>{t("console.for_mandates")}</NotYours>);
  const all = (page: ReactNode) => (whole ? page : <NotYours>{t("console.for_whole")}</NotYours>);
  return (
    <ToastArea>
      <Frame session={who.data}>
        <Routes>
          <Route path="/" element={!reads ? <Navigate to="/mine" replace /> : landing === "today" ? <TodayPage /> : <Navigate to={`/${landing}`} replace />} />
          <Route path="/today" element={read(<TodayPage />)} />
          <Route path="/mine" element={<SeenPage own={who.data.user.id} />} />
          <Route path="/account" element={<AccountPage />} />
          <Route path="/check" element={<CheckPage />} />
          <Route path="/devices" element={read(<DeviceListPage />)} />
          <Route path="/people" element={read(<PeopleListPage />)} />
          <Route path="/people/groups" element={read(<GroupListPage />)} />
          <Route path="/grants" element={read(<GrantListPage />)} />
          <Route path="/times" element={read(<ScheduleListPage />)} />
          <Route path="/times/calendars" element={read(<CalendarListPage />)} />
          <Route path="/rights" element={read(<RightListPage />)} />
          <Route path="/rights/roles" element={read(<RoleListPage />)} />
          <Route path="/rights/kinds" element={read(<KindListPage />)} />
          <Route path="/devices/groups" element={read(<DeviceGroupListPage />)} />
          <Route path="/devices/sites" element={read(<SiteListPage />)} />
          <Route path="/people/mandates" element={read(<MandateListPage />)} />
          <Route path="/people/:id/seen" element={read(<SeenPage />)} />
          <Route path="/matrix" element={read(<MatrixPage />)} />
          <Route path="/upkeep" element={read(<UpkeepPage />)} />
          <Route path="/upkeep/drafts" element={read(<DraftListPage />)} />
          <Route path="/drafts/:id" element={read(<DraftPage />)} />
          <Route path="/upkeep/reviews" element={read(<ReviewListPage />)} />
          <Route path="/reviews/:id" element={read(<ReviewPage />)} />
          <Route path="/people/sources" element={all(<SourceListPage />)} />
          <Route path="/sources/new" element={all(<SourceEditorPage />)} />
          <Route path="/sources/:id" element={all(<SourcePage />)} />
          <Route path="/sources/:id/edit" element={all(<SourceEditorPage />)} />
          <Route path="/upkeep/expectations" element={all(<ExpectationListPage />)} />
          <Route path="/record" element={all(<AuditPage />)} />
          <Route path="/history" element={all(<HistoryPage />)} />
          <Route path="/service" element={all(<ServicePage />)} />
          <Route path="/service/machines" element={all(<MachinesPage />)} />
          <Route path="/policy" element={all(<PolicyPage />)} />
          <Route path="/sheets" element={all(<SheetsPage />)} />
          <Route path="/records/:type/new" element={read(<EditPage />)} />
          <Route path="/records/:type/:id/edit" element={read(<EditPage />)} />
          <Route path="/records/:type/:id" element={read(<RecordPage />)} />
          <Route path="*" element={<Trouble error={new Error(t("console.nothing_here"))} />} />
        </Routes>
      </Frame>
    </ToastArea>
  );
}
