import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useEffect, useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { ApiError, type Row } from "../api/client";
import { create, put, read, type Saved, type Tagged } from "../api/edits";
import { draftKey, dropDraft, isReload, keepDraft, readDraft } from "../session/drafts";
import { Busy, Fault, Trouble } from "../ui/notice";
import { recordPath } from "../ui/record-link";
import { useDebounced } from "../ui/use-debounced";
import { useToast } from "../ui/toast";
import { t, timeFormat } from "../words";
import { ChangeList } from "./changes";
import { ImpactView } from "./impact";
import { MatchPreview, SchedulePreview } from "./previews";
import { at, fieldsOf, withField, type Field } from "./fields";
import { Input, Labelled, TextInput } from "./inputs";

/** What a new record begins with. */
const fresh: Record<string, object> = {
  users: { kind: "person", status: "active" },
  user_groups: { enabled: true },
  devices: { state: "in-service" },
  schedules: { zone: "site" },
  grants: { effect: "allow", enabled: true, lines: [{ on: {} }] },
  mandates: { role: "auditor", enabled: true },
};

/** The page that edits a record, or makes a new one. */
export function EditPage() {
  const { type = "", id } = useParams();
  const [params] = useSearchParams();
  const kept = useQuery({ queryKey: ["edit", type, id], queryFn: () => read(type, id ?? ""), enabled: id !== undefined, staleTime: Infinity, gcTime: 0 });
  if (!(type in fieldsOf)) return <Trouble error={new Error(t("console.nothing_here"))} />;
  if (id === undefined) {
    const { with: given, ...plain } = Object.fromEntries(params);
    const more = readObject(given ?? "{}");
    if (!more) return <Trouble error={new Error(t("console.edit.bad_address"))} />;
    return <EditForm key={`${type}?${params}`} type={type} begin={{ row: { ...fresh[type], ...plain, ...more } as Row, tag: "" }} isNew />;
  }
  if (kept.error) return <Trouble error={kept.error} />;
  if (!kept.data) return <Busy />;
  return <EditForm key={`${type}/${id}/${kept.data.tag}`} type={type} begin={kept.data} isNew={false} />;
}

/** readObject reads what an address says to begin with; undefined where that is no object. */
function readObject(text: string): object | undefined {
  try {
    const value: unknown = JSON.parse(text);
    return value && typeof value === "object" && !Array.isArray(value) ? value : undefined;
  } catch {
    return undefined;
  }
}

function EditForm({ type, begin, isNew }: { type: string; begin: Tagged; isNew: boolean }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const toast = useToast();
  // What was typed is kept until it is saved or given up, with the version that it began with: a reload goes on with it, and whoever
  // comes back is asked.
  const key = draftKey(type, begin.row.id ?? "", isNew ? JSON.stringify(begin.row) : "");
  const [found] = useState(() => readDraft(key));
  const [going] = useState(() => (found && isReload() ? found : undefined));
  const [offered, setOffered] = useState(going ? undefined : found);
  const [row, setRow] = useState<Row>(going?.row ?? begin.row);
  const [tag, setTag] = useState(going?.tag ?? begin.tag);
  const touched = row !== begin.row;
  useEffect(() => {
    if (touched) keepDraft(key, row, tag);
  }, [key, row, tag, touched]);

  const body = useDebounced(JSON.stringify(row), 300);
  const look = useQuery({
    queryKey: ["look", type, tag, body],
    // What is refused is an answer too, and stays in view, with its button in place, while somebody else's revision has it asked again.
    queryFn: () =>
      send(JSON.parse(body) as Row, true).then(
        (saved) => ({ saved, refused: undefined }),
        (error: unknown) => {
          if (error instanceof ApiError) return { saved: undefined, refused: error };
          throw error;
        },
      ),
    enabled: !isNew || Boolean(row.name || row.id),
    retry: false,
    staleTime: 0,
  });
  const send = (r: Row, dryRun: boolean): Promise<Saved> => (isNew && !r.id ? create(type, r, dryRun) : put(type, r, isNew ? undefined : tag, dryRun));

  const save = useMutation({
    mutationFn: () => send(row, false),
    onSuccess: async (saved) => {
      dropDraft(key);
      await queries.invalidateQueries();
      toast(saved);
      void navigate(recordPath(type, saved.id ?? row.id), { replace: true });
    },
  });
  // Of what was typed since the last look nothing is known yet.
  const nothing = !isNew && body === JSON.stringify(row) && look.data?.saved?.changes.length === 0;
  const refused = save.error instanceof ApiError ? save.error : look.data?.refused;
  const conflict = refused?.status === 412 ? (refused.problem?.current as Row | undefined) : undefined;
  const faults = refused?.problem?.faults ?? [];
  const faultOf = (path: string) => faults.filter((f) => f.path.replace(/^[a-z_]+\/[^.]+\./, "").startsWith(path)).map((f) => f.problem);
  const fields = fieldsOf[type] ?? [];
  const elsewhere = faults.filter((f) => !fields.some((x) => f.path.replace(/^[a-z_]+\/[^.]+\./, "").startsWith(x.path)));
  const set = (path: string, v: unknown) => {
    save.reset();
    setRow((r) => withField(r, path, v));
  };
  const again = () => {
    dropDraft(key);
    void queries.invalidateQueries({ queryKey: ["edit", type, begin.row.id] });
  };
  const cancel = () => {
    dropDraft(key);
    void navigate(-1);
  };

  return (
    // Enter moves on or adds, and never saves.
    <form onSubmit={(e) => e.preventDefault()} className="mx-auto max-w-6xl">
      <p className="text-xs font-medium tracking-wide text-soft uppercase">{t(`console.type.${type}`)}</p>
      <h1 className="mb-4">{isNew ? t("console.edit.new", { type: t(`console.type.${type}`) }) : (begin.row.name ?? begin.row.id)}</h1>
      {offered && (
        <section role="status" className="sheet mb-4 flex flex-wrap items-center gap-3 border-l-4 border-l-(--accent) p-3">
          <p className="mr-auto">
            {t("console.edit.draft", {
              name: String(offered.row.name ?? offered.row.id ?? t("console.edit.unnamed")),
              time: timeFormat({ dateStyle: "medium", timeStyle: "short" }).format(new Date(offered.at)),
            })}
          </p>
          <button
            type="button"
            className="button"
            onClick={() => {
              setRow(offered.row);
              setTag(offered.tag);
              setOffered(undefined);
            }}
          >
            {t("console.edit.draft_continue")}
          </button>
          <button
            type="button"
            className="button"
            onClick={() => {
              dropDraft(key);
              setOffered(undefined);
            }}
          >
            {t("console.edit.draft_drop")}
          </button>
        </section>
      )}
      <div className="grid items-start gap-5 lg:grid-cols-[1.6fr_1fr]">
        <div className="sheet">
          {fields.map((f) => (
            <Fragment key={f.path}>
              <FieldInput type={type} field={f} row={row} faults={faultOf(f.path)} onChange={(v) => set(f.path, v)} />
              {isNew && f.path === "name" && (
                <Labelled help={t("console.help.id")} fault={faultOf("id").join(" ")}>
                  <TextInput label={t("console.field.id")} value={row.id} onChange={(v) => set("id", v)} />
                </Labelled>
              )}
            </Fragment>
          ))}
        </div>
        <div className="sticky top-4 flex flex-col gap-5">
          <aside className="sheet overflow-hidden" aria-label={t("console.edit.effect")}>
            {/* The buttons stand above what changes as one types, so that they stay where they are. */}
            <div className="flex items-center gap-2 border-b border-line px-4 py-2.5">
              <h2 className="mr-auto">{t("console.edit.effect")}</h2>
              <button type="button" className="button" onClick={cancel}>
                {t("console.edit.cancel")}
              </button>
              <button type="button" className="button primary" onClick={() => save.mutate()} disabled={save.isPending || conflict !== undefined || nothing}>
                {t("console.edit.save")}
              </button>
            </div>
            <div className="max-h-[60vh] overflow-auto px-4 py-3" aria-live="polite">
              {!refused && <Fault text={save.error ? t("console.edit.not_saved") : undefined} className="mb-2" />}
              {conflict && <Conflict mine={row} theirs={conflict} again={again} />}
              {elsewhere.map((f) => (
                <Fault key={f.path} text={f.problem} className="mb-2" />
              ))}
              {refused && faults.length === 0 && !conflict && <p role="alert">{refused.message}</p>}
              {faults.length > 0 && <p className="text-breaks">{t("console.edit.faults", { n: faults.length })}</p>}
              {look.error && !refused && <p className="text-soft">{t("console.edit.no_look")}</p>}
              {!refused && !look.data && !look.isFetching && !look.error && <p className="text-soft">{t("console.edit.nothing")}</p>}
              {!refused && look.data?.saved && <ChangeList changes={look.data.saved.changes} none={t("console.edit.nothing")} />}
              {!refused && look.data?.saved?.impact && (
                <div className="mt-3 border-t border-line pt-2">
                  <h3 className="text-xs font-medium text-soft">{t("console.impact.title")}</h3>
                  <ImpactView impact={look.data.saved.impact} />
                </div>
              )}
            </div>
          </aside>
          {type === "device_groups" && <MatchPreview match={(row as { match?: object }).match} />}
          {type === "schedules" && <SchedulePreview schedule={row} />}
        </div>
      </div>
    </form>
  );
}

function FieldInput({ type, field, row, faults, onChange }: { type: string; field: Field; row: Row; faults: string[]; onChange: (v: unknown) => void }) {
  const last = field.path.split(".").at(-1) ?? "";
  const label = t(`console.field.${last}`);
  const help = t([`console.help.${type}.${last}`, `console.help.${last}`, "console.help.none"]);
  return (
    <Labelled help={help} fault={faults.join(" ")}>
      <Input field={field} label={label} value={at(row, field.path)} onChange={onChange} />
    </Labelled>
  );
}

/** Conflict shows both versions of what two people have changed. */
function Conflict({ mine, theirs, again }: { mine: Row; theirs: Row; again: () => void }) {
  const names = [...new Set([...Object.keys(mine), ...Object.keys(theirs)])].filter((n) => JSON.stringify(mine[n]) !== JSON.stringify(theirs[n]));
  return (
    <div role="alert" className="mb-3">
      <p className="font-semibold text-breaks">{t("console.edit.conflict")}</p>
      <table className="mt-2 w-full text-[0.86rem]">
        <thead>
          <tr className="text-soft">
            <th scope="col">{t("console.edit.field")}</th>
            <th scope="col">{t("console.edit.yours")}</th>
            <th scope="col">{t("console.edit.theirs")}</th>
          </tr>
        </thead>
        <tbody>
          {names.map((n) => (
            <tr key={n} className="border-t border-line/60 align-top">
              <th scope="row">{t(`console.field.${n}`)}</th>
              <td className="break-all">{JSON.stringify(mine[n]) ?? "–"}</td>
              <td className="break-all">{JSON.stringify(theirs[n]) ?? "–"}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <button type="button" className="button mt-2" onClick={again}>
        {t("console.edit.reload")}
      </button>
    </div>
  );
}
