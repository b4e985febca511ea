// What libraries of others find in a calendar: it reads {text, from, until} and writes, by UID, the instants at which its events begin: by ical.js for all of
// them, and by rrule-temporal for those that recur by a rule alone.
import { readFileSync } from "node:fs";
import ICAL from "ical.js";
import { RRuleTemporal } from "rrule-temporal";

const asked = JSON.parse(readFileSync(0, "utf8"));
const from = Date.parse(asked.from), until = Date.parse(asked.until);
const root = new ICAL.Component(ICAL.parse(asked.text));
for (const zone of root.getAllSubcomponents("vtimezone")) ICAL.TimezoneService.register(zone);

const byUID = {};
for (const part of root.getAllSubcomponents("vevent")) (byUID[part.getFirstPropertyValue("uid")] ??= []).push(part);

// Days and times without a zone are taken as UTC on both sides.
const instant = (t) => (t.zone === ICAL.Timezone.localTimezone || t.isDate ? Date.UTC(t.year, t.month - 1, t.day, t.hour, t.minute, t.second) : t.toUnixTime() * 1000);

const byICal = (parts) => {
  const main = parts.find((p) => !p.hasProperty("recurrence-id"));
  const event = new ICAL.Event(main, { strictExceptions: true, exceptions: parts.filter((p) => p !== main) });
  const found = [], steps = event.iterator();
  // Where there is no rule, the iterator gives the added dates alone: an event always takes place when it begins (RFC 5545, 3.8.5.2).
  if (!main.hasProperty("rrule") && instant(event.startDate) >= from && instant(event.startDate) < until) found.push(instant(event.startDate));
  for (let next = steps.next(), i = 0; next && i < 100000; next = steps.next(), i++) {
    const got = event.getOccurrenceDetails(next), at = instant(got.startDate);
    if (instant(next) > until + 40 * 86400000) break;
    if (got.item.component.getFirstPropertyValue("status") === "CANCELLED") continue;
    if (at >= from && at < until) found.push(at);
    if (!event.isRecurring()) break;
  }
  return found;
};

const byRule = (parts) => {
  const lines = parts[0].toString().replace(/\r\n[ \t]/g, "").split("\r\n");
  const take = (name) => lines.filter((l) => l.startsWith(name + ":") || l.startsWith(name + ";")).join("\n");
  const rule = new RRuleTemporal({ rruleString: take("DTSTART") + "\n" + take("RRULE"), includeDtstart: true, maxIterations: 1e6 });
  return rule.between(new Date(from), new Date(until - 1), true).map((t) => Number(t.epochMilliseconds));
};

const tried = (f) => {
  try {
    return { at: [...new Set(f())].sort((a, b) => a - b).map((t) => t / 1000) };
  } catch (e) {
    return { error: String(e.message ?? e) };
  }
};
const out = {};
for (const [uid, parts] of Object.entries(byUID)) {
  out[uid] = { ical: tried(() => byICal(parts)) };
  if (parts.length === 1 && !asked.own.includes(uid) && parts[0].hasProperty("rrule") && !parts[0].hasProperty("exdate") && !parts[0].hasProperty("rdate")) out[uid].rule = tried(() => byRule(parts));
}
process.stdout.write(JSON.stringify(out));
