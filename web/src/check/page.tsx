import { useQuery } from "@tanstack/react-query";
import { useLayoutEffect, useRef, useState, type FormEvent } from "react";
import { Link, useSearchParams } from "react-router";
import { check, type Answer } from "../api/client";
import { titleOf } from "../api/records";
import { useRights } from "../rights/tree";
import { week } from "../api/reach";
import { Choose } from "../ui/choose";
import { Busy, Trouble } from "../ui/notice";
import { Combobox, DeviceBox } from "../ui/combobox";
import { ReadingArea, useSettled } from "../ui/reading";
import { TimeField } from "../ui/time-field";
import { Instant } from "../ui/time";
import { WeekStrip } from "../ui/strip";
import { Sign, TrailView } from "../ui/trail";
import { CopyLink } from "../ui/copy-link";
import { t } from "../words";
import { useMakes, useReads } from "../session/mandates";
import { linkHere, ofBefore } from "../session/as-of";
import { AdviceView } from "./advice";
import { CircumstanceFields, circumstances, contextOf } from "./circumstances";

const parts = ["user", "right", "device", "at", ...circumstances] as const;
type Question = Record<(typeof parts)[number], string>;

const questionOf = (params: URLSearchParams) => Object.fromEntries(parts.map((p) => [p, params.get(p) ?? ""])) as Question;

/** The check page: the question stands in the address, so that its link asks it again. */
export function CheckPage() {
  const [params, setParams] = useSearchParams();
  const asked = questionOf(params);
  const address = params.toString();
  const complete = asked.user !== "" && asked.right !== "" && asked.device !== "";
  const answer = useQuery({
    queryKey: ["check", address],
    queryFn: () =>
      check({
        user: asked.user,
        right: asked.right,
        device: asked.device,
        at: asked.at || undefined,
        context: contextOf(asked),
      }),
    enabled: complete,
    staleTime: 0,
  });
  const ask = (question: Question) => {
    const next = new URLSearchParams(parts.flatMap((p) => (question[p].trim() ? [[p, question[p].trim()]] : [])));
    if (next.toString() === address) void answer.refetch();
    else setParams(next);
  };
  return (
    <div className="mx-auto max-w-6xl">
      <h1 className="mb-4">{t("console.place.check")}</h1>
      <ReadingArea key={address}>
        <QuestionForm asked={asked} onAsk={ask} />
      </ReadingArea>
      {!complete && <p className="px-1 text-soft">{t("console.check.begin")}</p>}
      {complete && answer.isPending && <Busy />}
      {answer.error && <Trouble error={answer.error} />}
      {answer.data && complete && <AnswerView answer={answer.data} asked={asked} />}
    </div>
  );
}

function QuestionForm({ asked, onAsk }: { asked: Question; onAsk: (question: Question) => void }) {
  const [draft, setDraft] = useState(asked);
  const latest = useRef(draft);
  useLayoutEffect(() => {
    latest.current = draft;
  });
  const settled = useSettled();
  const set = (part: (typeof parts)[number]) => (value: string) => setDraft((d) => ({ ...d, [part]: value }));
  const ask = async (e: FormEvent) => {
    e.preventDefault();
    if (await settled()) onAsk(latest.current);
  };
  return (
    <form onSubmit={(e) => void ask(e)} className="sheet mb-5 grid gap-3 p-4 md:grid-cols-[1.2fr_1fr_1.4fr_auto]">
      <Combobox label={t("console.field.user")} type="users" value={draft.user} onChange={(v) => set("user")(v ?? "")} />
      <RightChoice value={draft.right} onChange={set("right")} />
      <DeviceBox label={t("console.field.device_or_point")} value={draft.device} onChange={(v) => set("device")(v ?? "")} />
      <button type="submit" className="button primary justify-center self-end px-5 max-md:order-last" disabled={!draft.user || !draft.right || !draft.device}>
        {t("console.check.ask")}
      </button>
      <div className="grid gap-3 md:col-span-4 md:grid-cols-5">
        <TimeField
          label={t("console.field.at")}
          hint={t("console.check.at_hint")}
          value={draft.at || undefined}
          onChange={(v) => set("at")(v ?? "")}
          by={draft.device ? { device: draft.device.split("/")[0] } : {}}
        />
        <CircumstanceFields value={draft} onChange={(part, v) => set(part)(v)} />
      </div>
    </form>
  );
}

function RightChoice({ value, onChange }: { value: string; onChange: (v: string) => void }) {
  const options = (useRights() ?? []).map((r) => ({ value: r.id, label: titleOf(r) }));
  if (value && !options.some((o) => o.value === value)) options.push({ value, label: value });
  return <Choose label={t("console.field.right")} value={value} options={options} onChange={onChange} />;
}

function AnswerView({ answer, asked }: { answer: Answer; asked: Question }) {
  const reads = useReads();
  const makes = useMakes();
  const [advised, setAdvised] = useState(false);
  const known = !answer.reason.startsWith("unknown_");
  const context = contextOf(asked);
  const state = answer.allowed ? "holds" : answer.reason === "denied" || answer.reason === "device_locked_out" ? "closes" : "breaks";
  const limits = Object.entries(answer.limits ?? {});
  return (
    <section aria-live="polite" aria-label={t("console.check.answer")} data-reason={answer.reason} className="sheet overflow-hidden">
      <div className="flex flex-wrap items-start gap-4 max-sm:gap-3 border-b border-line p-5" style={{ boxShadow: `inset 5px 0 0 var(--${state})` }}>
        <Sign state={state} size={44} />
        <div className="min-w-0 flex-1 max-sm:basis-3/4">
          <p className="text-3xl leading-none font-semibold tracking-tight" style={{ color: `var(--${state})` }}>
            {t(answer.allowed ? "console.check.allowed" : "console.check.denied")}
          </p>
          <p className="mt-2 max-w-[75ch] text-[1.02rem] leading-relaxed">{answer.text}</p>
        </div>
        <CopyLink link={linkHere} className="button max-sm:basis-full" />
      </div>
      <dl className="grid gap-x-8 gap-y-2 border-b border-line bg-sunk/50 px-5 py-3 md:grid-cols-3">
        <Fact name={t("console.check.asked_at")}>
          <Instant at={answer.at} zone={answer.zone} />
        </Fact>
        <Fact name={t("console.check.until")}>
          {answer.until ? <Instant at={answer.until} zone={answer.zone} from={new Date(answer.at)} /> : t("console.check.never")}
        </Fact>
        <Fact name={t("console.check.code")}>
          <code className="font-mono text-[0.9em]">{answer.reason}</code>
          {answer.revision !== undefined && <span className="text-soft"> · {t("console.check.revision", { n: answer.revision })}</span>}
        </Fact>
      </dl>
      <div className="flex flex-col gap-6 p-5">
        <Trails title={t(answer.allowed ? "console.check.because" : "console.check.closed_by")} trails={answer.because} />
        <Trails title={t("console.check.missing")} trails={answer.missing} />
        {limits.length > 0 && (
          <div>
            <h2 className="mb-1">{t("console.check.limits")}</h2>
            <ul>
              {limits.map(([name, value]) => (
                <li key={name} className="tabular-nums">
                  <span className="font-mono">{name}</span>: {Array.isArray(value) ? value.join(", ") : String(value)}
                </li>
              ))}
            </ul>
          </div>
        )}
        {answer.because.length + answer.missing.length === 0 && <p className="text-soft">{t("console.check.no_trail")}</p>}
        {known && <WeekView asked={asked} context={context} at={answer.at} />}
        {known && reads && !advised && !ofBefore && (
          <button type="button" className="button self-start" onClick={() => setAdvised(true)}>
            {t(answer.allowed ? "console.advice.ask_away" : "console.advice.ask_towards")}
          </button>
        )}
        {known && makes("expectations") && (
          <Link className="button self-start" to={`/records/expectations/new?with=${encodeURIComponent(JSON.stringify(expected(answer, asked)))}`}>
            {t(answer.allowed ? "console.expect.from_yes" : "console.expect.from_no")}
          </Link>
        )}
        {known && advised && <AdviceView question={{ user: asked.user, right: asked.right, device: asked.device, at: asked.at || undefined, context }} />}
      </div>
    </section>
  );
}

/** expected is what is expected where an answer must always be as it is. */
function expected(answer: Answer, asked: Question) {
  const on = asked.device.includes("/") ? { points: [asked.device] } : { devices: [asked.device] };
  const name = t(answer.allowed ? "console.expect.name_yes" : "console.expect.name_no", {
    user: answer.user.name,
    right: answer.right.name,
    device: answer.device.name,
  });
  return { name, who: { users: [asked.user] }, rights: [asked.right], on, expect: answer.allowed ? "always" : "never" };
}

/** WeekView is the strip of the week from the day that was asked about. */
function WeekView({ asked, context, at }: { asked: Question; context: object; at: string }) {
  const question = { user: asked.user, device: asked.device, from: asked.at ? at.slice(0, 10) : undefined, context };
  const found = useQuery({ queryKey: ["week", question], queryFn: () => week(question), staleTime: 30_000 });
  if (!found.data) return null;
  return (
    <div>
      <h2 className="mb-2">
        {t("console.check.week")} <span className="font-normal text-soft">{found.data.zone}</span>
      </h2>
      <WeekStrip days={found.data.days} zone={found.data.zone} lanes={found.data.rights.map((r) => ({ name: r.right.name, stretches: r.stretches }))} />
    </div>
  );
}

function Fact({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <div>
      <dt className="text-xs font-medium text-soft">{name}</dt>
      <dd>{children}</dd>
    </div>
  );
}

function Trails({ title, trails }: { title: string; trails: Answer["because"] }) {
  if (trails.length === 0) return null;
  return (
    <div>
      <h2 className="mb-3">{title}</h2>
      <div className="flex flex-col gap-6">
        {trails.map((trail) => (
          <TrailView key={`${trail.grant}/${trail.line}`} trail={trail} />
        ))}
      </div>
    </div>
  );
}
