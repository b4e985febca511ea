import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { useState } from "react";
import { ApiError, reasonOf } from "../api/client";
import { dropHook, hooks, newHook, putHook, testHook, type Hook, type NewHook } from "../api/hooks";
import { AsDraft } from "../drafts/as-draft";
import { useOwner } from "../session/mandates";
import { CheckBox, TextField } from "../ui/fields";
import { Footer, Modal } from "../ui/modal";
import { Fault } from "../ui/notice";
import { Instant } from "../ui/time";
import { useZone } from "../ui/time-field";
import { number, t } from "../words";

const kinds = ["change", "request", "draft", "review", "source", "ending", "finding", "sign_in", "token", "refusal", "decision"] as const;

/** Hooks are to whom it is told what happens: each with how far that has come, and what was answered last. */
export function Hooks() {
  const owner = useOwner();
  const found = useQuery({ queryKey: ["hooks"], queryFn: hooks, refetchInterval: 10_000 });
  return (
    <section className="sheet mx-auto mt-5 max-w-4xl">
      <div className="flex flex-wrap items-center gap-3 border-b border-line px-4 py-2.5">
        <h2 className="mr-auto">{t("console.hook.title")}</h2>
        {owner && (
          <Modal
            title={t("console.hook.new")}
            button={
              <>
                <Plus size={15} aria-hidden /> {t("console.hook.new")}
              </>
            }
          >
            {(close) => <Form close={close} />}
          </Modal>
        )}
      </div>
      <p className="px-4 pt-3 text-[0.86rem] text-soft">{t("console.hook.help")}</p>
      <Fault text={found.error ? reasonOf(found.error, t("console.unreachable")) : undefined} className="m-4" />
      {found.data?.length === 0 && <p className="px-4 py-3 text-soft">{t("console.hook.none")}</p>}
      <ul className="py-1">
        {found.data?.map((h) => (
          <Told key={h.id} hook={h} />
        ))}
      </ul>
    </section>
  );
}

function Told({ hook }: { hook: Hook }) {
  const owner = useOwner();
  const zone = useZone({});
  const queries = useQueryClient();
  const onSettled = () => queries.invalidateQueries({ queryKey: ["hooks"] });
  const test = useMutation({ mutationFn: () => testHook(hook.id), onSettled });
  const pause = useMutation({ mutationFn: () => putHook(hook.id, { ...setOf(hook), paused: !hook.paused }), onSettled });
  const failed = test.error ?? pause.error;
  return (
    <li className="border-t border-line/60 px-4 py-2.5 first:border-t-0">
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <span className="font-semibold">{hook.name}</span>
        <span className="break-all text-soft">{hook.url}</span>
        {owner && (
          <span className="ml-auto flex flex-wrap gap-2 print:hidden">
            <button type="button" className="button" disabled={test.isPending} onClick={() => test.mutate()}>
              {t("console.hook.test")}
            </button>
            <button type="button" className="button" disabled={pause.isPending} onClick={() => pause.mutate()}>
              {t(hook.paused ? "console.hook.resume" : "console.hook.pause")}
            </button>
            <Modal title={t("console.hook.change")} button={t("console.hook.change")} label={t("console.hook.change_of", { name: hook.name })}>
              {(close) => <Form hook={hook} close={close} />}
            </Modal>
            <Drop hook={hook} />
          </span>
        )}
      </div>
      <p className={hook.problem ? "text-breaks" : ""}>
        {hook.paused ? (
          t("console.hook.paused")
        ) : hook.problem ? (
          <>
            {t("console.hook.failed", { why: hook.problem })} {hook.next && <Instant at={hook.next} zone={zone} />}
          </>
        ) : hook.last ? (
          <>
            {t("console.hook.taken")} <Instant at={hook.last} zone={zone} />
          </>
        ) : (
          t("console.hook.nothing_yet")
        )}
        {hook.behind > 0 && <span className="text-soft"> · {t("console.hook.behind", { count: hook.behind, n: number(hook.behind) })}</span>}
      </p>
      <p className="text-[0.86rem] text-soft">{(hook.kinds ?? []).map((k) => t(`console.record.kind_${k}`)).join(", ")}</p>
      {test.isSuccess && !test.data.problem && <p role="status">{t("console.hook.tested")}</p>}
      <Fault text={failed ? reasonOf(failed, t("console.unreachable")) : undefined} />
    </li>
  );
}

const setOf = ({ name, url, secret, kinds, paused, version }: Hook): NewHook => ({ name, url, secret, kinds, paused, version });

function Form({ hook, close }: { hook?: Hook; close: () => void }) {
  const queries = useQueryClient();
  const [at, set] = useState<NewHook>(hook ? setOf(hook) : { name: "", url: "", secret: "", kinds: ["change", "request", "draft", "review", "source"] });
  const put = (change: Partial<NewHook>) => {
    save.reset();
    set((was) => ({ ...was, ...change }));
  };
  const save = useMutation({
    mutationFn: () => (hook ? putHook(hook.id, at) : newHook(at)),
    onSuccess: async () => {
      close();
      await queries.invalidateQueries({ queryKey: ["hooks"] });
    },
  });
  const faults = save.error instanceof ApiError ? (save.error.problem?.faults ?? []) : [];
  const fault = (path: string) => faults.find((f) => f.path === path)?.problem;
  const placed = faults.length > 0 && faults.every((f) => ["name", "url", "secret"].includes(f.path));
  return (
    <>
      {!hook && <TextField label={t("console.hook.name")} value={at.name} fault={fault("name")} onChange={(name) => put({ name })} />}
      <TextField label={t("console.hook.url")} value={at.url} hint="https://desk.example/…" fault={fault("url")} onChange={(url) => put({ url })} />
      <div>
        <TextField label={t("console.source.secret")} value={at.secret} fault={fault("secret")} onChange={(secret) => put({ secret })} />
        <p className="mt-1 text-[0.86rem] text-soft">{t("console.hook.secret_help")}</p>
      </div>
      <fieldset className="grid grid-cols-2 gap-x-3 gap-y-1">
        <legend className="mb-1 text-xs font-medium text-soft">{t("console.hook.kinds")}</legend>
        {kinds.map((k) => (
          <CheckBox
            key={k}
            label={t(`console.record.kind_${k}`)}
            checked={at.kinds?.includes(k) ?? false}
            onChange={(on) => put({ kinds: on ? [...(at.kinds ?? []), k] : at.kinds?.filter((x) => x !== k) })}
          />
        ))}
      </fieldset>
      <AsDraft error={save.error} name={at.name} act={hook ? "edit_webhook" : "add_webhook"} id={hook?.id} body={at} />
      <Footer
        close={close}
        go={() => save.mutate()}
        label={t("console.hook.save")}
        disabled={save.isPending || !at.kinds?.length}
        fault={save.error && !placed ? reasonOf(save.error, t("console.edit.not_saved")) : undefined}
      />
    </>
  );
}

function Drop({ hook }: { hook: Hook }) {
  const queries = useQueryClient();
  const drop = useMutation({ mutationFn: () => dropHook(hook.id), onSuccess: () => queries.invalidateQueries({ queryKey: ["hooks"] }) });
  return (
    <Modal title={t("console.hook.remove_title", { name: hook.name })} button={t("console.source.remove")}>
      {(close) => (
        <>
          <p>{t("console.hook.remove_help")}</p>
          <AsDraft error={drop.error} name={hook.name} act="remove_webhook" id={hook.id} />
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
  );
}
