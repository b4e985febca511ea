import { useId } from "react";
import { t } from "../words";
import { ReadField } from "./fields";

const zones = Intl.supportedValuesOf("timeZone");

/** ZoneField is a zone of the IANA database, found by any part of its name; for a schedule it may be the clock of the device’s site. */
export function ZoneField({ label, value, onChange, site }: { label: string; value: string; onChange: (v: string | undefined) => void; site?: boolean }) {
  const id = useId();
  const own = t("console.site_clock");
  const all = site ? [own, ...zones] : zones;
  const read = (text: string) => {
    const same = all.find((z) => z.toLowerCase() === text.toLowerCase().replaceAll(" ", "_") || z.toLowerCase() === text.toLowerCase());
    const holds = all.filter((z) => z.toLowerCase().includes(text.toLowerCase().replaceAll(" ", "_")));
    const found = same ?? (holds.length === 1 ? holds[0] : undefined);
    if (!found) return { fault: t("console.form.no_zone", { text }) };
    return found === own ? "site" : found;
  };
  return (
    <>
      <ReadField label={label} value={value || undefined} shown={(v) => (v === "site" ? own : v)} read={read} onChange={onChange} list={id} />
      <datalist id={id}>
        {all.map((z) => (
          <option key={z} value={z} />
        ))}
      </datalist>
    </>
  );
}
