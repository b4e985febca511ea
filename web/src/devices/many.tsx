import { useState } from "react";
import { AccessButtons } from "../access/give";
import { patched, type Edit } from "../api/edits";
import type { Device } from "../api/records";
import { Effect } from "../impact/effect";
import { useDoing } from "../impact/use-edits";
import { serviceNow } from "../session/clock";
import { Choose } from "../ui/choose";
import { Combobox } from "../ui/combobox";
import { TextField } from "../ui/fields";
import { Fault } from "../ui/notice";
import { ReadingArea } from "../ui/reading";
import { t } from "../words";
import { states } from "./states";

const what = ["group", "tag", "move", "state", "lock"] as const;
type What = (typeof what)[number];

/** Many does one thing with all the devices that are picked, as one change. */
export function Many(props: { picked: string[]; onDone: () => void }) {
  return (
    <ReadingArea>
      <Bar {...props} />
    </ReadingArea>
  );
}

function Bar({ picked, onDone }: { picked: string[]; onDone: () => void }) {
  const [doing, setDoing] = useState<What>("group");
  const [value, setValue] = useState("");
  const [state, setState] = useState<Device["state"]>();
  const [from] = useState(() => serviceNow().toISOString());
  const edit = (id: string): Edit => {
    switch (doing) {
      case "group":
        return { op: "add", type: "device_groups", id: value, list: "devices", value: id };
      case "tag":
        return { op: "add", type: "devices", id, list: "tags", value };
      case "move":
        return patched("devices", id, { site: value || null });
      case "state":
        return patched("devices", id, { state });
      case "lock":
        return patched("devices", id, { lockout: { reason: value, from } });
    }
  };
  const ready = doing === "move" || (doing === "state" ? state !== undefined : value !== "");
  const edits = ready ? picked.map(edit) : [];
  const { go, busy, fault } = useDoing(edits, onDone);
  return (
    <section aria-label={t("console.many.title", { n: picked.length })} className="sheet mb-3 flex flex-wrap items-end gap-3 p-3">
      <p className="pb-1.5 font-semibold tabular-nums">{t("console.many.title", { n: picked.length })}</p>
      <div className="w-44">
        <Choose
          label={t("console.many.do")}
          value={doing}
          options={what.map((w) => ({ value: w, label: t(`console.many.${w}`) }))}
          onChange={(v) => {
            setDoing(what.find((w) => w === v) ?? "group");
            setValue("");
            setState(undefined);
          }}
        />
      </div>
      <div className="w-60">
        {doing === "group" && <Combobox label={t("console.type.device_groups")} type="device_groups" value={value} onChange={(v) => setValue(v ?? "")} />}
        {doing === "move" && <Combobox label={t("console.type.sites")} type="sites" value={value} onChange={(v) => setValue(v ?? "")} />}
        {doing === "tag" && <TextField label={t("console.many.tag_name")} value={value} onChange={setValue} />}
        {doing === "lock" && <TextField label={t("console.field.reason")} value={value} onChange={setValue} />}
        {doing === "state" && (
          <Choose
            label={t("console.field.state")}
            value={state ?? ""}
            options={states.map((v) => ({ value: v, label: t(`console.value.${v}`) }))}
            onChange={(v) => setState(states.find((s) => s === v))}
          />
        )}
      </div>
      <button type="button" className="button primary" disabled={!ready || busy} onClick={go}>
        {t("console.many.go")}
      </button>
      <AccessButtons side={{ name: t("console.counted.devices", { count: picked.length }), on: { devices: picked } }} done={onDone} />
      <button type="button" className="button" onClick={onDone}>
        {t("console.many.none")}
      </button>
      <Effect edits={edits} />
      <Fault text={fault} className="basis-full" />
    </section>
  );
}
