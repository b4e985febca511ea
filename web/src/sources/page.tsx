import clsx from "clsx";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { reasonOf } from "../api/client";
import {
  bringToSource,
  dropSource,
  findInSource,
  getSource,
  linkSource,
  lookAtSource,
  readSource,
  sourceToken,
  type Source,
  type SourceLook,
  type SourcePerson,
} from "../api/sources";
import { AsDraft } from "../drafts/as-draft";
import { ChangeList } from "../impact/changes";
import { ImpactView } from "../impact/impact";
import { UnmetList } from "../impact/unmet";
import { base } from "../base";
import { useOwner } from "../session/mandates";
import { ChooseFile } from "../ui/choose-file";
import { Combobox } from "../ui/combobox";
import { TextField } from "../ui/fields";
import { Footer, Modal } from "../ui/modal";
import { Busy, Fault, Trouble } from "../ui/notice";
import { RecordLink } from "../ui/record-link";
import { Instant } from "../ui/time";
import { useZone } from "../ui/time-field";
import { useDebounced } from "../ui/use-debounced";
import { number, t } from "../words";
import { Days } from "./days";
import { broughtText, countsOf, isRead, NextRun, Outcome } from "./list";
import { Mapping, Problems } from "./mapping";

/** SourcePage shows one source: how it goes, what a reading would do before it counts, its mapping, who is there, and its last readings. */
export function SourcePage() {
  const { id = "" } = useParams();
  const found = useQuery({ queryKey: ["source", id], queryFn: () => getSource(id), retry: false });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  return <Shown source={found.data} />;
}

function Shown({ source }: { source: Source }) {
  const owner = useOwner();
  const queries = useQueryClient();
  const look = useMutation({ mutationFn: () => lookAtSource(source.id) });
  const read = useMutation({
    mutationFn: (body: { digest?: string; accept?: boolean; reason?: string; override?: string[] }) => readSource(source.id, body),
    onSuccess: () => look.reset(),
    onSettled: () => queries.invalidateQueries(),
  });
  const busy = look.isPending || read.isPending;
  const last = source.last;
  const feed = source.calendar ?? source.inventory;
  const pushed = !isRead(source.kind);
  return (
    <div className="mx-auto max-w-6xl">
      <div className="mb-4 flex flex-wrap items-start gap-3">
        <div className="mr-auto min-w-0">
          <p className="text-xs tracking-wide text-soft uppercase">{t("console.source.title")}</p>
          <h1>{source.name}</h1>
          <p>
            {pushed ? (
              t(source.paused ? "console.source.paused" : `console.source.brings_${source.kind}`)
            ) : (
              <>
                <Outcome of={source} /> · <NextRun of={source} />
              </>
            )}
          </p>
          <p className="text-soft">
            {broughtText(source)} · {t(pushed ? "console.source.on_behalf" : "console.source.as_whom", { name: source.author.name })}
          </p>
          {last?.why && <Fault text={last.why} />}
        </div>
        {owner && (
          <>
            <Link className="button print:hidden" to={`/sources/${encodeURIComponent(source.id)}/edit`}>
              {t("console.source.edit")}
            </Link>
            <Remove source={source} />
            {pushed && last?.outcome === "held" && <LetGo source={source} />}
            {!pushed && (
              <button type="button" className={clsx("button print:hidden", !look.data && "primary")} disabled={busy} onClick={() => look.mutate()}>
                {t("console.source.look")}
              </button>
            )}
          </>
        )}
      </div>
      {busy && <Busy />}
      <Fault text={look.error ? reasonOf(look.error, t("console.unreachable")) : undefined} />
      <Fault text={read.error ? reasonOf(read.error, t("console.edit.not_saved")) : undefined} />
      {look.data && !busy && <Looked kind={source.kind} look={look.data} read={(body) => read.mutate(body)} />}
      <div className="mt-5 grid items-start gap-5 lg:grid-cols-2">
        <Set source={source} />
        {source.kind === "scim" && <Token source={source} />}
        {(source.kind === "directory" || source.kind === "scim_read") && <Find source={source} />}
        {source.kind === "sign_on" && <Back source={source} />}
        {feed && !feed.url && <Bring source={source} />}
        {(source.vanished ?? []).length > 0 && <Vanished source={source} />}
      </div>
      {!pushed && <Runs source={source} />}
    </div>
  );
}

/** Looked is what a reading would do: it counts when somebody says so. */
function Looked({
  kind,
  look,
  read,
}: {
  kind: Source["kind"];
  look: SourceLook;
  read: (body: { digest: string; accept?: boolean; reason?: string; override?: string[] }) => void;
}) {
  const zone = useZone({});
  const [reason, setReason] = useState("");
  const counts = countsOf(look.counts);
  const unmet = look.would.unmet ?? [];
  return (
    <section className="sheet" data-look>
      <h2 className="flex flex-wrap items-baseline gap-x-3 border-b border-line px-4 py-2.5">
        {t("console.source.would")}{" "}
        <span className="font-normal text-soft">
          {t("console.source.read_at")} <Instant at={look.at} zone={zone} />
        </span>
      </h2>
      <div className="grid gap-x-6 lg:grid-cols-2">
        <div className="min-w-0">
          {kind !== "inventory" && <Mapping kind={kind} matched={look.matched} loose={look.loose} />}
          <Days list={look.calendars ?? []} />
          <Problems list={look.problems} more={look.more} />
        </div>
        <div className="min-w-0 border-line px-4 py-3 lg:border-l">
          <p className="font-semibold">{counts || t("console.source.nothing_else")}</p>
          {look.would.impact && <ImpactView impact={look.would.impact} />}
          <UnmetList unmet={unmet} />
          {look.would.changes.length > 0 && (
            <details className="mt-2">
              <summary className="cursor-pointer text-soft">{t("console.source.records", { count: look.would.changes.length })}</summary>
              <ChangeList changes={look.would.changes.slice(0, 50)} none="" />
            </details>
          )}
          {look.held && (
            <div className="mt-3">
              <Fault text={look.held} />
              <div className="mt-2">
                <TextField label={t("console.source.reason")} value={reason} onChange={setReason} />
              </div>
            </div>
          )}
          {counts && (
            <button
              type="button"
              className="button primary mt-3"
              disabled={Boolean(look.held) && !reason.trim()}
              onClick={() =>
                read(look.held ? { digest: look.digest, accept: true, reason: reason.trim(), override: unmet.map((u) => u.id) } : { digest: look.digest })
              }
            >
              {t(look.held ? "console.source.count_anyway" : "console.source.count_it")}
            </button>
          )}
        </div>
      </div>
    </section>
  );
}

/** LetGo lets a provider go on that takes away more people at once than its settings allow. */
function LetGo({ source }: { source: Source }) {
  const queries = useQueryClient();
  const [reason, setReason] = useState("");
  const go = useMutation({
    mutationFn: () => readSource(source.id, { accept: true, reason: reason.trim() }),
    onSuccess: () => queries.invalidateQueries(),
  });
  return (
    <Modal title={t("console.source.let_go_title", { name: source.name })} button={t("console.source.let_go")}>
      {(close) => (
        <>
          <p>{t("console.source.let_go_help")}</p>
          <TextField label={t("console.source.reason")} value={reason} onChange={setReason} />
          <Footer
            close={close}
            go={() => go.mutate(undefined, { onSuccess: close })}
            label={t("console.source.let_go")}
            disabled={go.isPending || !reason.trim()}
            fault={go.error ? reasonOf(go.error, t("console.edit.not_saved")) : undefined}
          />
        </>
      )}
    </Modal>
  );
}

function Remove({ source }: { source: Source }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const drop = useMutation({
    mutationFn: () => dropSource(source.id),
    onSuccess: async () => {
      void navigate("/people/sources");
      await queries.invalidateQueries();
    },
  });
  return (
    <span className="print:hidden">
      <Modal title={t("console.source.remove_title", { name: source.name })} button={t("console.source.remove")}>
        {(close) => (
          <>
            <p>{t("console.source.remove_help")}</p>
            <AsDraft error={drop.error} name={source.name} act="remove_source" id={source.id} />
            <Footer
              close={close}
              go={() => drop.mutate()}
              label={t("console.source.remove")}
              disabled={drop.isPending}
              fault={drop.error ? reasonOf(drop.error, t("console.edit.not_saved")) : undefined}
            />
          </>
        )}
      </Modal>
    </span>
  );
}

/** Set says how the source is set up. */
function Set({ source }: { source: Source }) {
  const d = source.directory;
  const feed = source.calendar ?? source.inventory;
  const { bring } = source;
  const where: [string, string][] = d
    ? [
        ["url", d.url],
        ["bind", d.bind ?? t("console.source.nobody")],
        ["people", d.people?.base ?? ""],
        ["groups", d.groups?.base ?? ""],
        ["sign_in", t(d.sign_in ? "console.source.sign_in_yes" : "console.source.sign_in_no")],
      ]
    : source.sign_on
      ? [
          ["issuer", source.sign_on.issuer],
          ["client_id", source.sign_on.client_id],
        ]
      : feed
        ? [
            ["feed_url", feed.url || t("console.source.brought_by_hand")],
            ...(source.calendar ? [["zone", source.calendar.zone ?? t("console.source.zone_settings")] as [string, string]] : []),
            ...(source.inventory ? [["format", t(`console.source.format_${source.inventory.format}`)] as [string, string]] : []),
          ]
        : source.scim
          ? [["scim_url", source.scim.url ?? ""]]
          : [["kind", t("console.source.kind_scim")]];
  const rows: [string, string][] = [
    ...where,
    ...(source.kind !== "directory" && source.kind !== "scim" && source.kind !== "scim_read"
      ? []
      : [["gone", t(`console.source.gone_${bring?.gone ?? "suspended"}`)] as [string, string]]),
    ...(isRead(source.kind) ? [["undo", t(`console.source.undo_${bring?.undo ?? "refused"}`)] as [string, string]] : []),
  ];
  return (
    <section className="sheet">
      <h2 className="border-b border-line px-4 py-2.5">{t("console.source.set_up")}</h2>
      <dl className="grid grid-cols-[10rem_1fr] gap-x-3 gap-y-1 px-4 py-3">
        {rows.map(([key, value]) => (
          <div key={key} className="contents">
            <dt className="text-soft">{t(`console.source.${key}`)}</dt>
            <dd className="break-words">{value}</dd>
          </div>
        ))}
      </dl>
      <ul className="border-t border-line px-4 py-3 empty:hidden">
        {bring?.groups?.map((m) => (
          <li key={`${m.outside} ${m.group}`}>
            {m.outside} → <RecordLink type="user_groups" id={m.group} />
          </li>
        ))}
        {bring?.calendars?.map((r) => (
          <li key={`${r.match} ${r.text ?? ""}`}>
            {t(`console.source.event_${r.match}`)} {r.text} → <RecordLink type="calendars" id={r.calendar} />
          </li>
        ))}
        {Object.entries(source.inventory?.columns ?? {}).map(([ours, theirs]) => (
          <li key={ours}>
            {theirs} → {t(`console.source.column_${ours as "id"}`)}
          </li>
        ))}
        {bring?.rules?.map((r) => (
          <li key={`${r.match} ${r.text}`}>
            {t(`console.source.rule_${r.match}`, { text: r.text })} → {r.group}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Bring brings a source that has no address the file that it is read from. */
function Bring({ source }: { source: Source }) {
  const owner = useOwner();
  const zone = useZone({});
  const queries = useQueryClient();
  const bring = useMutation({
    mutationFn: async (file: File) => bringToSource(source.id, await file.text(), source.kind === "calendar" ? "text/calendar" : mediaOf(source)),
    onSuccess: () => queries.invalidateQueries(),
  });
  const accept = source.kind === "calendar" ? ".ics" : source.inventory?.format === "csv" ? ".csv" : ".jsonl,.ndjson";
  return (
    <section className="sheet print:hidden">
      <h2 className="border-b border-line px-4 py-2.5">{t("console.source.file")}</h2>
      <div className="flex flex-col gap-2 px-4 py-3">
        <p className={source.content ? "" : "text-soft"} role="status">
          {source.content ? (
            <>
              {t("console.source.brought_at")} <Instant at={source.content} zone={zone} />
            </>
          ) : (
            t("console.source.nothing_brought")
          )}
        </p>
        <Fault text={bring.error ? reasonOf(bring.error, t("console.edit.not_saved")) : undefined} />
        {owner && (
          <div>
            <ChooseFile accept={accept} choose={(file) => file && bring.mutate(file)}>
              {t("console.source.bring")}
            </ChooseFile>
          </div>
        )}
      </div>
    </section>
  );
}

const mediaOf = (source: Source) => (source.inventory?.format === "csv" ? "text/csv" : "application/x-ndjson");

/** Vanished are the devices and sites that are no longer in the list that they came from. */
function Vanished({ source }: { source: Source }) {
  return (
    <section className="sheet">
      <h2 className="border-b border-line px-4 py-2.5">{t("console.source.vanished")}</h2>
      <p className="px-4 pt-3 text-[0.86rem] text-soft">{t("console.source.vanished_help")}</p>
      <ul className="max-h-72 overflow-auto px-4 py-2">
        {source.vanished?.map((v) => (
          <li key={`${v.type} ${v.id}`}>
            <RecordLink type={v.type} id={v.id} name={v.name} /> <span className="text-soft">{v.outside}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Back is what the provider has to know of this service. */
function Back({ source }: { source: Source }) {
  const at = `${location.origin}${base}sign-on/${source.id}`;
  return (
    <section className="sheet print:hidden">
      <h2 className="border-b border-line px-4 py-2.5">{t("console.source.provider_knows")}</h2>
      <dl className="grid grid-cols-[10rem_1fr] gap-x-3 gap-y-1 px-4 py-3">
        <dt className="text-soft">{t("console.source.callback")}</dt>
        <dd className="font-mono break-all">{at}/callback</dd>
        <dt className="text-soft">{t("console.source.log_out")}</dt>
        <dd className="font-mono break-all">{at}/logout</dd>
      </dl>
    </section>
  );
}

/** Token makes the token with which a source brings its people and groups: it is shown once. */
function Token({ source }: { source: Source }) {
  const owner = useOwner();
  const make = useMutation({ mutationFn: () => sourceToken(source.id) });
  return (
    <section className="sheet print:hidden">
      <h2 className="border-b border-line px-4 py-2.5">{t("console.source.token")}</h2>
      <div className="flex flex-col gap-2 px-4 py-3">
        <p className="text-soft">{t("console.source.token_help")}</p>
        <p>
          {t("console.source.base")} <code className="font-mono break-all">{`${location.origin}${base}scim/v2`}</code>
        </p>
        {make.data?.secret && (
          <p role="status">
            {t("console.source.token_once")}
            <code className="mt-1 block rounded bg-sunk px-2 py-1 font-mono break-all">{make.data.secret}</code>
          </p>
        )}
        <Fault text={make.error ? reasonOf(make.error, t("console.edit.not_saved")) : undefined} />
        {owner && (
          <button type="button" className="button self-start" disabled={make.isPending} onClick={() => make.mutate()}>
            {t("console.source.make_token")}
          </button>
        )}
      </div>
    </section>
  );
}

/** Find looks for people and groups there by some letters, and says who is in them. */
function Find({ source }: { source: Source }) {
  const [q, setQ] = useState("");
  const asked = useDebounced(q.trim(), 300);
  const found = useQuery({
    queryKey: ["source-find", source.id, asked],
    queryFn: () => findInSource(source.id, asked),
    enabled: asked.length > 1,
    retry: false,
  });
  return (
    <section className="sheet print:hidden">
      <h2 className="border-b border-line px-4 py-2.5">{t("console.source.find")}</h2>
      <div className="px-4 py-3">
        <TextField label={t("console.source.letters")} value={q} onChange={setQ} />
        {found.error && <Fault text={reasonOf(found.error, t("console.unreachable"))} />}
        {found.data && found.data.people.length + found.data.groups.length === 0 && <p className="mt-2 text-soft">{t("console.source.nobody_found")}</p>}
        <ul className="mt-2">
          {found.data?.groups.map((g) => (
            <li key={g.outside} className="py-1">
              <span className="font-semibold">{g.name}</span> <span className="text-soft tabular-nums">{t("console.counted.people", { count: g.count })}</span>
              <p className="text-[0.86rem] text-soft">
                {g.members.map((m) => m.name || m.id).join(", ")}
                {g.count > g.members.length && ` ${t("console.impact.more", { n: number(g.count - g.members.length) })}`}
              </p>
            </li>
          ))}
          {found.data?.people.map((p) => (
            <Found key={p.outside} source={source} person={p} />
          ))}
        </ul>
      </div>
    </section>
  );
}

function Found({ source, person }: { source: Source; person: SourcePerson }) {
  const owner = useOwner();
  const queries = useQueryClient();
  const [user, setUser] = useState<string>();
  const link = useMutation({ mutationFn: () => linkSource(source.id, { outside: person.outside, user }), onSuccess: () => queries.invalidateQueries() });
  const linked = source.bring?.links?.[person.outside];
  return (
    <li className="flex flex-wrap items-baseline gap-x-3 py-1">
      <span className="font-semibold">{person.name || person.id}</span>
      <span className="text-soft">{person.id}</span>
      {person.user ? (
        <span>
          {t("console.source.is_here")} <RecordLink type="users" id={person.user.id} name={person.user.name} />
        </span>
      ) : linked ? (
        <span className="text-soft">{t("console.source.linked")}</span>
      ) : (
        owner && (
          <Modal title={t("console.source.link_title", { name: person.name || person.id })} button={t("console.source.link")}>
            {(close) => (
              <>
                <p>{t("console.source.link_help")}</p>
                <Combobox label={t("console.type.users")} type="users" value={user} onChange={setUser} />
                <AsDraft error={link.error} name={source.name} act="link_source" id={source.id} body={{ outside: person.outside, user }} />
                <Footer
                  close={close}
                  go={() => link.mutate(undefined, { onSuccess: close })}
                  label={t("console.source.link")}
                  disabled={!user || link.isPending}
                  fault={link.error ? reasonOf(link.error, t("console.edit.not_saved")) : undefined}
                />
              </>
            )}
          </Modal>
        )
      )}
    </li>
  );
}

/** Runs are the last readings: when, who had it read, and what came of it. */
function Runs({ source }: { source: Source }) {
  const zone = useZone({});
  const runs = source.runs ?? [];
  return (
    <section className="sheet mt-5">
      <h2 className="border-b border-line px-4 py-2.5">{t("console.source.runs")}</h2>
      {runs.length === 0 && <p className="px-4 py-3 text-soft">{t("console.source.not_read")}</p>}
      <ul>
        {runs.map((r) => (
          <li key={r.number} className="border-t border-line/60 first:border-t-0">
            <div className="flex flex-wrap items-baseline gap-x-4 px-4 py-1.5">
              <span className="w-44">
                <Instant at={r.at} zone={zone} />
              </span>
              <span className={`w-40 ${r.outcome === "held" || r.outcome === "failed" ? "font-semibold text-breaks" : ""}`}>
                {t(`console.source.outcome_${r.outcome}`)}
              </span>
              <span className="text-soft">{r.by ? r.by.name : t("console.source.the_clock")}</span>
              <span className="tabular-nums">{r.outcome === "done" ? countsOf(r.counts) : ""}</span>
              {r.revision && (
                <Link className="link ml-auto" to={`/history?revision=${r.revision}`}>
                  {t("console.source.revision", { n: r.revision })}
                </Link>
              )}
            </div>
            {r.why && <p className="px-4 pb-1.5 text-[0.86rem]">{r.why}</p>}
            {r.missing.map((m) => (
              <p key={m.outside} className="px-4 pb-1.5 text-[0.86rem]">
                {m.text}
              </p>
            ))}
            {r === runs[0] && <Problems list={r.problems} more={r.more} />}
          </li>
        ))}
      </ul>
    </section>
  );
}
