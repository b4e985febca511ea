import { useState } from "react";
import { patched, type Edit } from "../api/edits";
import type { Device } from "../api/records";
import { Picked } from "../impact/picked";
import { serviceNow } from "../session/clock";
import { useMakes } from "../session/mandates";
import { Choose } from "../ui/choose";
import { Combobox } from "../ui/combobox";
import { TextField } from "../ui/fields";
import { t } from "../words";
import { states } from "./states";

const what = ["group", "tag", "move", "state", "lock"] as const;
type What = (typeof what)[number];

/** Many does one thing with all the devices that are picked, as one change. */
export function Many({ picked, onDone }: { picked: string[]; onDone: () => void }) {
  const makes = useMakes();
  const [doing, setDoing] = useState<What>(makes("device_groups") ? "group" : "tag");
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
  const side = { name: t("console.counted.devices", { count: picked.length }), on: { devices: picked } };
  const choose = (w: What) => {
    setDoing(w);
    setValue("");
    setState(undefined);
  };
  return (
    <Picked
      count={picked.length}
      what={makes("device_groups") ? what : what.filter((w) => w !== "group")}
      doing={doing}
      onDoing={choose}
      edits={edits}
      side={side}
      onDone={onDone}
    >
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
    </Picked>
  );
}
