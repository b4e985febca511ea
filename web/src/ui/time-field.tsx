import { useQuery } from "@tanstack/react-query";
import { CalendarDays } from "lucide-react";
import { Popover } from "radix-ui";
import { useId, useState, type ReactNode } from "react";
import { flushSync } from "react-dom";
import { problemOf } from "../api/client";
import { readTime, type Clock } from "../api/reach";
import { serviceNow } from "../session/clock";
import { usePreferences } from "../session/preferences";
import { useReads } from "../session/mandates";
import { t } from "../words";
import { Calendar } from "./calendar";
import { Labelled } from "./fields";
import { useReading, whenReleased } from "./reading";
import { dayText, distance, local } from "./time";
import { useDebounced } from "./use-debounced";

type Props = { label: string; value: string | undefined; onChange: (v: string | undefined) => void; hidden?: boolean; hint?: string };

/** isInstant tells whether a value is an instant; an address may have a time in words. */
const isInstant = (v: string | undefined) => v !== undefined && /^\d{4}-\d\d-\d\dT.*(Z|[+-]\d\d:\d\d)$/.test(v);

/** useClock is a clock that was asked for; of none, the one that who is signed in prefers to that of the policy. */
function useClock(by: Clock): Clock {
  const [{ zone }] = usePreferences();
  return zone && Object.keys(by).length === 0 ? { zone } : by;
}

/** useZone is the zone of a clock, as the service has it. */
export function useZone(given: Clock) {
  const by = useClock(given);
  const { data } = useQuery({ queryKey: ["zone", by], queryFn: () => readTime({ ...by }), staleTime: 60_000, enabled: useReads() });
  return data?.zone ?? "UTC";
}

/**
 * TimeField is a date and time: clicked, or said in words that the service reads, and shown back as they were understood. value is an
 * instant of RFC 3339. by says whose clock it is told by: that of a device, of a site, of a zone; of none, that of the policy.
 */
export function TimeField({ value: given, onChange, by: asked = {}, hint = t("console.time.hint"), ...props }: Props & { by?: Clock }) {
  const by = useClock(asked);
  const zone = useZone(by);
  const value = isInstant(given) ? given : undefined;
  const [day = "", clock = ""] = written(value ?? serviceNow().toISOString(), zone);
  return (
    <Said
      {...props}
      hint={hint}
      shown={value ? local(value, zone) : (given ?? "")}
      read={async (text) => onChange(text === "" ? undefined : ((await readTime({ ...by, text })).at ?? undefined))}
      means={(typed) => <Means typed={typed} value={value} by={by} zone={zone} />}
      calendar={(say) => (
        <Calendar day={day} onDay={(d) => say(`${d} ${value ? clock : "00:00"}`)} clock={value ? clock : ""} onClock={(c) => say(`${day} ${c}`)} />
      )}
    />
  );
}

/** written are an instant's date and clock in a zone, as the service reads them. */
const written = (at: string, zone: string) => new Date(at).toLocaleString("sv-SE", { timeZone: zone, dateStyle: "short", timeStyle: "short" }).split(" ");

/** Means tells the zone, and while one types what is understood so far. What is not, is told when the field is left. */
function Means({ typed, value, by, zone }: { typed: string | undefined; value: string | undefined; by: Clock; zone: string }) {
  const word = useDebounced((typed ?? "").trim(), 250);
  const ahead = useQuery({
    queryKey: ["time", by, word],
    queryFn: () => readTime({ ...by, text: word }),
    enabled: typed !== undefined && word !== "",
    retry: false,
    staleTime: 10_000,
  });
  const at = typed === undefined ? value : word === typed.trim() ? ahead.data?.at : undefined;
  return (
    <p aria-live="polite" className="text-xs text-soft tabular-nums">
      {at && typed !== undefined && `${local(at, zone)} `}
      {zone}
      {at && `, ${distance(at, serviceNow())}`}
    </p>
  );
}

/** DateField is a day, clicked or said in words. value is YYYY-MM-DD. */
export function DateField({ value, onChange, hint = t("console.time.day_hint"), ...props }: Props) {
  return (
    <Said
      {...props}
      hint={hint}
      shown={value ? dayText(value) : ""}
      read={async (text) => onChange(text === "" ? undefined : (await readTime({ zone: "UTC", text })).at?.slice(0, 10))}
      calendar={(say) => <Calendar day={value ?? serviceNow().toISOString().slice(0, 10)} onDay={say} />}
    />
  );
}

type SaidProps = {
  label: string;
  hidden?: boolean;
  hint: string;
  shown: string;
  read: (text: string) => Promise<void>;
  means?: (typed: string | undefined) => ReactNode;
  calendar: (say: (text: string) => void) => ReactNode;
};

/** Said is typed in words, or clicked. What is typed stays as typed until the field is left or Enter is pressed; then it is read once. */
function Said({ label, hidden, hint, shown, read, means, calendar }: SaidProps) {
  const id = useId();
  const reading = useReading();
  const [typed, setTyped] = useState<string>();
  const [fault, setFault] = useState("");
  const take = async (text: string) => {
    try {
      await read(text.trim());
      // Whoever waits for the field goes on with what was read: it has to stand in the form by then.
      flushSync(() => {
        setFault("");
        setTyped(undefined);
      });
      return true;
    } catch (error) {
      setFault(problemOf(error));
      return false;
    }
  };
  const say = (text: string) => reading(whenReleased(() => take(text)));
  return (
    <Labelled label={label} htmlFor={id} fault={fault} hidden={hidden}>
      <div className="flex gap-1">
        <input
          id={id}
          className="field"
          autoComplete="off"
          placeholder={hint}
          aria-invalid={fault ? true : undefined}
          value={typed ?? shown}
          onChange={(e) => setTyped(e.target.value)}
          onBlur={() => typed !== undefined && say(typed)}
          onKeyDown={(e) => {
            if (e.key !== "Enter" || typed === undefined) return;
            e.preventDefault();
            say(typed);
          }}
        />
        <Popover.Root>
          <Popover.Trigger asChild>
            <button type="button" className="button px-2" aria-label={t("console.time.calendar", { label })}>
              <CalendarDays size={15} aria-hidden />
            </button>
          </Popover.Trigger>
          <Popover.Portal>
            <Popover.Content align="end" sideOffset={4} className="sheet z-50 p-3">
              {calendar(say)}
            </Popover.Content>
          </Popover.Portal>
        </Popover.Root>
      </div>
      {means?.(typed)}
    </Labelled>
  );
}
