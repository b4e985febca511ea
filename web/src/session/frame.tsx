import { base } from "../base";
import clsx from "clsx";
import {
  CircleUser,
  ClipboardCheck,
  Cpu,
  FilePen,
  FileText,
  Grid3x3,
  History,
  Clock,
  KeyRound,
  Layers,
  LogOut,
  Moon,
  Route as RouteIcon,
  ScrollText,
  Settings2,
  Sun,
  Sunrise,
  Unplug,
  Users,
} from "lucide-react";
import { useLayoutEffect, type ReactNode } from "react";
import { Link, NavLink, useLocation } from "react-router";
import { useQuery } from "@tanstack/react-query";
import { getDraft } from "../api/drafts";
import { counts, hear, signOut, type Session } from "../api/client";
import { LanguageButton } from "../ui/language-button";
import { Fault } from "../ui/notice";
import { SearchBox } from "../ui/search";
import { Shortcuts } from "../ui/shortcuts";
import { useEvents } from "../api/events";
import { local } from "../ui/time";
import { useZone } from "../ui/time-field";
import { usePrinting } from "../ui/use-printing";
import { t } from "../words";
import { asOf, backToNow, inDraft, ofBefore } from "./as-of";
import { serviceNow } from "./clock";
import { chooseLanguage } from "./language";
import { usePreferences } from "./preferences";
import { dropDrafts } from "./drafts";
import { useFollowing, type Following } from "./following";
import { useReads, useWhole } from "./mandates";
import { chooseTheme, theme } from "./theme";

// What there is for everybody, and all there is for somebody who reads no records: their own access.
const own = { to: "/mine", key: "mine", icon: CircleUser, types: [] as string[] };

// The places that are built, in the order of the work.
const allPlaces = [
  { to: "/", key: "today", icon: Sunrise, types: [] as string[] },
  { to: "/check", key: "check", icon: RouteIcon, types: [] },
  { to: "/devices", key: "devices", icon: Cpu, types: ["devices", "device_groups", "sites"] },
  { to: "/people", key: "people", icon: Users, types: ["users", "user_groups", "mandates"] },
  { to: "/grants", key: "grants", icon: KeyRound, types: ["grants"] },
  { to: "/times", key: "times", icon: Clock, types: ["schedules", "calendars"] },
  { to: "/matrix", key: "matrix", icon: Grid3x3, types: [] },
  { to: "/rights", key: "rights", icon: Layers, types: ["rights", "roles", "kinds"] },
  { to: "/upkeep", key: "upkeep", icon: ClipboardCheck, types: ["expectations"] },
  { to: "/record", key: "record", icon: ScrollText, types: [] },
  { to: "/policy", key: "policy", icon: FileText, types: [] },
  { to: "/service", key: "service", icon: Settings2, types: [] },
  own,
];

// Those that can be looked at as they were, or as they would be with a draft.
const ofOthers = ["check", "devices", "people", "grants", "times", "matrix", "rights"];

/** Before says plainly that what is shown is the policy as it was, and leads back. */
function Before() {
  const zone = useZone({});
  const there = useQuery({ queryKey: ["counts"], queryFn: counts, retry: false }); // or else nothing was, and why
  const revision = /^\d+$/.test(asOf);
  const what = revision || Number.isNaN(Date.parse(asOf)) ? asOf : `${local(asOf, zone)} ${zone}`;
  return (
    <div role="note" className="mb-4 flex flex-wrap items-center gap-3 border-y-2 border-breaks bg-sunk px-4 py-2">
      <History size={16} aria-hidden />
      <span className="font-medium">{t(revision ? "console.history.before_revision" : "console.history.before_time", { what })}</span>
      {there.error && <Fault text={there.error.message} />}
      <button type="button" className="button ml-auto print:hidden" onClick={backToNow}>
        {t("console.history.to_now")}
      </button>
    </div>
  );
}

/** Copied says that a machine that follows has heard nothing for a while: what is shown may not be so any more. */
function Copied({ following: { machine, cut, since } }: { following: Following }) {
  const zone = useZone({});
  useQuery({ queryKey: ["hear"], queryFn: hear, refetchInterval: 10_000, retry: false }); // whoever only looks asks nothing else
  if (!cut) return null;
  return (
    <div role="status" className="mb-4 flex items-center gap-3 border-y-2 border-breaks bg-sunk px-4 py-2">
      <Unplug size={16} className="shrink-0" aria-hidden />
      <span className="font-medium">
        {since ? t("console.following.cut", { machine, time: `${local(since.toISOString(), zone)} ${zone}` }) : t("console.following.never", { machine })}
      </span>
    </div>
  );
}

/** Drafted says plainly that what is shown is not so yet, and leads to the draft and back. */
function Drafted() {
  const draft = useQuery({ queryKey: ["draft", inDraft], queryFn: () => getDraft(inDraft), retry: false });
  return (
    <div role="note" className="mb-4 flex flex-wrap items-center gap-3 border-y-2 border-(--accent) bg-sunk px-4 py-2">
      <FilePen size={16} aria-hidden />
      <span className="mr-auto font-medium">{t("console.draft.working", { name: draft.data?.name ?? inDraft })}</span>
      {draft.error && <Fault text={draft.error.message} />}
      <Link className="button print:hidden" to={`/drafts/${encodeURIComponent(inDraft)}`}>
        {t("console.draft.look")} {draft.data && <span className="tabular-nums">({draft.data.records})</span>}
      </Link>
      <button type="button" className="button print:hidden" onClick={backToNow}>
        {t("console.draft.leave")}
      </button>
    </div>
  );
}

// Those that are for whoever sees the policy as a whole.
const forWhole = ["policy", "record", "service"];

/** useOpenOnPaper opens, while a page is printed, what is folded on it: paper cannot be opened. */
function useOpenOnPaper() {
  const printing = usePrinting();
  useLayoutEffect(() => {
    if (!printing) return;
    const closed = [...document.querySelectorAll<HTMLDetailsElement>("main details:not([open])")];
    for (const d of closed) d.open = true;
    return () => {
      for (const d of closed) d.open = false;
    };
  }, [printing]);
}

/** PaperHead stands on the first page of what is printed: by whom, when, and of which revision of the policy. */
function PaperHead({ session }: { session: Session }) {
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  return (
    <p className="mb-3 hidden border-b border-line pb-1 text-[8pt] text-soft print:block">
      {t("console.paper", { time: `${local(serviceNow().toISOString(), zone)} ${zone}`, revision: session.revision, user: session.user.name })}
    </p>
  );
}

export function Frame({ session, children }: { session: Session; children: ReactNode }) {
  useEvents(session.whole);
  useOpenOnPaper();
  const at = useLocation().pathname;
  const reads = useReads();
  const following = useFollowing();
  const whole = useWhole();
  const [{ landing = "today" }, prefer] = usePreferences();
  const places = reads
    ? allPlaces
        .filter((p) => (!forWhole.includes(p.key) || whole) && (asOf === "" || ofOthers.includes(p.key) || (inDraft !== "" && p.key === "upkeep")))
        .map((p) => (p.to === "/" && landing !== "today" ? { ...p, to: "/today" } : p))
    : [own];
  const look = theme(); // which a change of what one prefers draws anew
  const leave = async () => {
    dropDrafts();
    await signOut();
    location.assign(base); // nothing that was read stays in memory
  };
  const other = look === "dark" ? "light" : "dark";
  return (
    <div className="flex min-h-screen flex-col md:flex-row">
      <a href="#main" className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-sheet focus:p-2">
        {t("console.skip")}
      </a>
      <header className="flex shrink-0 flex-wrap items-center gap-x-4 border-line bg-sunk px-3 py-2 max-md:border-b md:sticky md:top-0 md:h-screen md:w-48 md:flex-col md:items-stretch md:border-r md:px-3 md:py-4">
        <NavLink to="/" className="flex items-center gap-2 px-2 md:mb-5">
          <img src={`${base}mark.svg`} alt="" width="26" height="26" />
          <span className="text-lg font-semibold tracking-tight">Sentier</span>
        </NavLink>
        {reads && <SearchBox />}
        {reads && <Shortcuts />}
        <nav aria-label={t("console.places")} className="flex w-full flex-wrap gap-1 max-md:order-3 md:flex-col">
          {places.map((p) => (
            <NavLink
              key={p.key}
              to={p.to}
              end={p.to === "/"}
              className={({ isActive }) =>
                clsx(
                  "flex items-center gap-2.5 rounded-md px-2 py-1.5 font-medium",
                  isActive || p.types.some((t) => at.startsWith(`/records/${t}/`)) ? "bg-sheet text-ink shadow-sm" : "text-soft hover:text-ink",
                )
              }
            >
              <p.icon size={16} className="max-md:hidden" aria-hidden />
              <span className="max-sm:text-sm">{t(`console.place.${p.key}`)}</span>
            </NavLink>
          ))}
        </nav>
        <div className="ml-auto flex items-center gap-2 max-md:order-1 md:mt-auto md:ml-0 md:flex-col md:items-stretch">
          <div className="px-2 leading-tight max-md:hidden">
            <Link className="font-medium hover:underline" to="/account">
              {session.user.name}
            </Link>
            <div className="text-xs text-soft">{session.mandates.map((m) => t(`console.mandate.${m}`)).join(", ")}</div>
            {following && (
              <div className="text-xs text-soft" title={t("console.following.what")}>
                {t("console.following.by", { machine: following.machine })}
              </div>
            )}
          </div>
          <div className="flex flex-wrap gap-1">
            <button
              type="button"
              className="button border-transparent bg-transparent px-2"
              aria-label={t(`console.theme.${other}`)}
              title={t(`console.theme.${other}`)}
              onClick={() => {
                chooseTheme(other);
                prefer({ theme: other }).catch(() => undefined); // it is so here; that it is not kept shows at the next sign-in
              }}
            >
              {look === "dark" ? <Sun size={16} aria-hidden /> : <Moon size={16} aria-hidden />}
            </button>
            <LanguageButton choose={(l) => prefer({ language: l }).catch(() => chooseLanguage(l))} />
            <button type="button" className="button border-transparent bg-transparent px-2" onClick={() => void leave()}>
              <LogOut size={16} aria-hidden />
              {t("console.sign_out")}
            </button>
          </div>
        </div>
      </header>
      <main id="main" className="min-w-0 flex-1 px-4 py-5 md:px-8 md:py-6">
        <PaperHead session={session} />
        {following && <Copied following={following} />}
        {ofBefore && <Before />}
        {inDraft !== "" && <Drafted />}
        {children}
      </main>
    </div>
  );
}
