import { queryOptions, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { TriangleAlert } from "lucide-react";
import { useEffect, useState, type ReactNode } from "react";
import { useNavigate } from "react-router";
import { ApiError } from "../../api/client";
import type { Saved } from "../../api/edits";
import { create, idOf, put, titleOf, type Row, type Tagged, type Type } from "../../api/records";
import { ChangeList } from "../../impact/changes";
import { ImpactView } from "../../impact/impact";
import { useReason } from "../../impact/reason";
import { Needs, UnmetList } from "../../impact/unmet";
import { draftKey, dropDraft, isReload, keepDraft, readDraft } from "../../session/drafts";
import { t, timeFormat } from "../../words";
import { Footer, Question } from "../modal";
import { Fault } from "../notice";
import { ReadingArea, useSettled } from "../reading";
import { recordPath } from "../record-link";
import { useToast } from "../toast";
import { useDebounced } from "../use-debounced";
import { faultsOf } from "./faults";
import { withIDs } from "./ids";
import { useRecordForm, type Form } from "./use-record-form";

type Props<T extends Type> = {
  type: T;
  begin: Tagged<T>;
  isNew: boolean;
  title: string;
  /** children are the fields. */
  children: (form: Form<T>) => ReactNode;
  /** far says in which ways what is to be saved reaches unusually far: then it is looked at once more. */
  far?: (row: Row<T>, saved: Saved | undefined) => string[];
  /** beside stands below the effect. */
  beside?: (form: Form<T>) => ReactNode;
};

/** RecordForm edits a record or makes a new one, with what it changes beside it. */
export function RecordForm<T extends Type>(props: Props<T>) {
  return (
    <ReadingArea>
      <TheForm {...props} />
    </ReadingArea>
  );
}

function TheForm<T extends Type>({ type, begin, isNew, title, children, beside, far }: Props<T>) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const toast = useToast();
  const settled = useSettled();
  // What was typed is kept until it is saved or given up, with the version that it began with: a reload goes on with it, and whoever
  // comes back is asked.
  const key = draftKey(type, isNew ? "" : idOf(begin.row), isNew ? JSON.stringify(begin.row) : "");
  const [found] = useState(() => readDraft<T>(key));
  const [going] = useState(() => (found && isReload() ? found : undefined));
  const [offered, setOffered] = useState(going ? undefined : found);
  const [tag, setTag] = useState(going?.tag ?? begin.tag);
  const [begun, setBegun] = useState(0); // how often the fields were filled anew: what they keep of their own begins again with each
  const { row, touched, latest, set, replace } = useRecordForm(type, begin.row, going?.row);

  const { field: reason, why } = useReason();
  const body = useDebounced(JSON.stringify(row), 300);
  useEffect(() => {
    if (touched) keepDraft(key, { row: JSON.parse(body) as Row<T>, tag });
  }, [key, body, tag, touched]);
  const send = (typed: Row<T>, dryRun: boolean): Promise<Saved> => {
    const r = withIDs(type, typed);
    const because = dryRun ? undefined : why();
    return isNew && !r.id && type !== "settings" ? create(type, r, dryRun, because) : put(type, r, isNew ? undefined : tag, dryRun, because);
  };
  const lookAt = (typed: string) =>
    queryOptions({
      queryKey: ["look", type, tag, typed],
      // What is refused is an answer too, and stays in view, with its button in place, while somebody else's revision has it asked again.
      queryFn: async (): Promise<{ saved?: Saved; refused?: ApiError }> => {
        try {
          return { saved: await send(JSON.parse(typed) as Row<T>, true) };
        } catch (error) {
          if (error instanceof ApiError) return { refused: error };
          throw error;
        }
      },
      retry: false,
      staleTime: 0,
    });
  const look = useQuery({ ...lookAt(body), enabled: !isNew || Boolean(row.name || row.id) });
  const [asking, setAsking] = useState(false);
  const save = useMutation({
    mutationFn: async (lookedAt: boolean) => {
      if (!(await settled())) return undefined; // what cannot be read is told where it stands
      const typed = latest();
      if (far && !lookedAt) {
        // Whoever presses right after typing is asked about what they typed, not about what was shown before.
        const now = JSON.stringify(typed);
        const { saved } = (now === body ? look.data : undefined) ?? (await queries.fetchQuery(lookAt(now)));
        if (far(typed, saved).length > 0) {
          setAsking(true);
          return undefined;
        }
      }
      return send(typed, false);
    },
    onSuccess: async (saved) => {
      if (!saved) return;
      dropDraft(key);
      await queries.invalidateQueries();
      toast(saved);
      void navigate(recordPath(type, saved.id ?? idOf(latest())), { replace: true });
    },
  });
  const refused = save.error instanceof ApiError ? save.error : look.data?.refused;
  const conflict = refused?.status === 412 ? (refused.problem?.current as Row<T> | undefined) : undefined;
  const { faults, elsewhere, faultOf } = faultsOf(type, refused);
  const form: Form<T> = {
    type,
    row,
    isNew,
    set: (name, value) => {
      save.reset();
      set(name, value);
    },
    faultOf,
  };
  const reaches = far?.(row, look.data?.saved) ?? [];
  const cancel = () => {
    dropDraft(key);
    void navigate(-1);
  };
  return (
    // Enter moves on or adds, and never saves.
    <form onSubmit={(e) => e.preventDefault()} className="mx-auto max-w-6xl">
      <h1 className="mb-3">{title}</h1>
      {offered && (
        <Offered
          name={titleOf(offered.row) || t("console.edit.unnamed")}
          at={offered.at}
          go={() => {
            replace(offered.row);
            setTag(offered.tag);
            setBegun(begun + 1);
            setOffered(undefined);
          }}
          drop={() => {
            dropDraft(key);
            setOffered(undefined);
          }}
        />
      )}
      <div className="grid items-start gap-5 lg:grid-cols-[1.7fr_1fr]">
        <div key={begun} className="min-w-0">
          {children(form)}
        </div>
        <div className="sticky top-4 flex min-w-0 flex-col gap-5">
          <aside className="sheet overflow-hidden" aria-label={t("console.edit.effect")}>
            {/* The buttons stand above what changes as one types, so that they stay where they are. */}
            <div className="flex items-center gap-2 border-b border-line px-4 py-2.5">
              <h2 className="mr-auto">{t("console.edit.effect")}</h2>
              <button type="button" className="button" onClick={cancel}>
                {t("console.edit.cancel")}
              </button>
              <button type="button" className="button primary" onClick={() => save.mutate(false)} disabled={save.isPending || conflict !== undefined}>
                {t("console.edit.save")}
              </button>
            </div>
            <div className="border-b border-line px-4 py-2.5">{reason(look.data?.saved?.unmet)}</div>
            <Question title={t("console.far.title")} open={asking} close={() => setAsking(false)}>
              <Far reasons={reaches} />
              {look.data?.saved?.impact && <ImpactView impact={look.data.saved.impact} most={4} />}
              <Footer
                close={() => setAsking(false)}
                go={() => {
                  setAsking(false);
                  save.mutate(true);
                }}
                label={t("console.far.save")}
              />
            </Question>
            <div className="max-h-[60vh] overflow-auto px-4 py-3" aria-live="polite">
              <Far reasons={reaches} />
              {!refused && <Fault text={save.error ? t("console.edit.not_saved") : undefined} className="mb-2" />}
              {conflict && (
                <Conflict
                  mine={row}
                  theirs={conflict}
                  again={() => {
                    dropDraft(key);
                    void queries.invalidateQueries({ queryKey: ["edit", type, idOf(begin.row)] });
                  }}
                />
              )}
              {elsewhere.map((f) => (
                <Fault key={f.path + f.problem} text={f.problem} className="mb-2" />
              ))}
              {refused && faults.length === 0 && !conflict && <p role="alert">{refused.message}</p>}
              {faults.length > 0 && <p className="text-breaks">{t("console.edit.faults", { n: faults.length })}</p>}
              {look.error && !refused && <p className="text-soft">{t("console.edit.no_look")}</p>}
              {!refused && !look.data && !look.isFetching && !look.error && <p className="text-soft">{t("console.edit.nothing")}</p>}
              {!refused && look.data?.saved && <Effects saved={look.data.saved} />}
            </div>
          </aside>
          {beside?.(form)}
        </div>
      </div>
    </form>
  );
}

/** Far says loudly how far something reaches. */
function Far({ reasons }: { reasons: string[] }) {
  if (reasons.length === 0) return null;
  return (
    <ul className="mb-2 flex flex-col gap-1">
      {reasons.map((r) => (
        <li key={r} className="flex items-start gap-2 font-semibold text-closes">
          <TriangleAlert size={16} aria-hidden className="mt-0.5 shrink-0" />
          {r}
        </li>
      ))}
    </ul>
  );
}

/** Effects are what a form would change: who gains and loses first, then the records. */
function Effects({ saved }: { saved: Saved }) {
  return (
    <>
      <Needs approval={saved.approval} />
      <UnmetList unmet={saved.unmet} />
      {saved.impact && (
        <div className="mb-3 border-b border-line pb-2">
          <h3 className="text-xs font-medium text-soft">{t("console.impact.title")}</h3>
          <ImpactView impact={saved.impact} />
        </div>
      )}
      <ChangeList changes={saved.changes} none={t("console.edit.nothing")} />
    </>
  );
}

/** Offered asks whoever comes back whether to go on with what they began. */
function Offered({ name, at, go, drop }: { name: string; at: string; go: () => void; drop: () => void }) {
  return (
    <section role="status" className="sheet mb-4 flex flex-wrap items-center gap-3 border-l-4 border-l-(--accent) p-3">
      <p className="mr-auto">{t("console.edit.draft", { name, time: timeFormat({ dateStyle: "medium", timeStyle: "short" }).format(new Date(at)) })}</p>
      <button type="button" className="button" onClick={go}>
        {t("console.edit.draft_continue")}
      </button>
      <button type="button" className="button" onClick={drop}>
        {t("console.edit.draft_drop")}
      </button>
    </section>
  );
}

/** Conflict shows both versions of what two people have changed. */
function Conflict<T extends Type>({ mine, theirs, again }: { mine: Row<T>; theirs: Row<T>; again: () => void }) {
  const [a, b]: Record<string, unknown>[] = [{ ...mine }, { ...theirs }];
  const names = [...new Set([...Object.keys(a ?? {}), ...Object.keys(b ?? {})])].filter((n) => JSON.stringify(a?.[n]) !== JSON.stringify(b?.[n]));
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
              <td className="break-all">{JSON.stringify(a?.[n]) ?? "–"}</td>
              <td className="break-all">{JSON.stringify(b?.[n]) ?? "–"}</td>
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
