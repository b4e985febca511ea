import { serviceNow } from "../session/clock";
import { useState } from "react";
import type { Edit } from "../api/edits";
import { Choose } from "../ui/choose";
import { Picker } from "../ui/picker";
import { t } from "../words";
import { TextInput } from "../edit/inputs";
import { Effect } from "../edit/effect";
import { useEdits } from "../edit/use-edits";

const what = ["group", "tag", "move", "state", "lock"] as const;
type What = (typeof what)[number];

/** Many does one thing with all the devices that are picked, as one change. */
export function Many({ picked, onDone }: { picked: string[]; onDone: () => void }) {
  const { make, fault } = useEdits();
  const [doing, setDoing] = useState<What>("group");
  const [value, setValue] = useState("");
  const [from] = useState(() => serviceNow().toISOString());

  const edit = (id: string): Edit => {
    const patch = (record: object): Edit => ({ op: "patch", type: "devices", id, record: record as never });
    switch (doing) {
      case "group":
        return { op: "add", type: "device_groups", id: value, list: "devices", value: id };
      case "tag":
        return { op: "add", type: "devices", id, list: "tags", value };
      case "move":
        return patch({ site: value || null });
      case "state":
        return patch({ state: value });
      case "lock":
        return patch({ lockout: { reason: value, from } });
    }
  };
  const edits = value || doing === "move" ? picked.map(edit) : [];
  const go = async () => {
    if (await make(edits)) onDone();
  };
  return (
    <section aria-label={t("console.many.title", { n: picked.length })} className="sheet mb-3 flex flex-wrap items-end gap-3 p-3">
      <p className="pb-1.5 font-semibold tabular-nums">{t("console.many.title", { n: picked.length })}</p>
      <div className="w-44">
        <Choose
          label={t("console.many.do")}
          value={doing}
          options={what.map((w) => ({ value: w, label: t(`console.many.${w}`) }))}
          onChange={(v) => {
            setDoing(v as What);
            setValue("");
          }}
        />
      </div>
      <div className="w-60">
        {doing === "group" && <Picker label={t("console.type.device_groups")} type="device_groups" value={value} onChange={setValue} />}
        {doing === "move" && <Picker label={t("console.type.sites")} type="sites" value={value} onChange={setValue} />}
        {doing === "tag" && <TextInput label={t("console.many.tag_name")} value={value} onChange={(v) => setValue(String(v))} />}
        {doing === "lock" && <TextInput label={t("console.field.reason")} value={value} onChange={(v) => setValue(String(v))} />}
        {doing === "state" && (
          <Choose
            label={t("console.field.state")}
            value={value}
            options={["in-service", "maintenance", "retired"].map((v) => ({ value: v, label: t(`console.value.${v}`) }))}
            onChange={setValue}
          />
        )}
      </div>
      <button type="button" className="button primary" disabled={!value && doing !== "move"} onClick={() => void go()}>
        {t("console.many.go")}
      </button>
      <button type="button" className="button" onClick={onDone}>
        {t("console.many.none")}
      </button>
      <Effect edits={edits} />
      {fault && (
        <p role="alert" className="basis-full text-breaks">
          {fault}
        </p>
      )}
    </section>
  );
}
