import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { AccessButtons } from "../access/give";
import { ApiError, reasonOf } from "../api/client";
import type { Edit } from "../api/edits";
import { remove, titleOf, type Listed, type Row } from "../api/records";
import type { To, Where } from "../grants/choices";
import { ChangeList } from "../impact/changes";
import { Doing } from "../impact/doing";
import { ImpactView } from "../impact/impact";
import { useReason } from "../impact/reason";
import { UnmetList } from "../impact/unmet";
import { useMakes, useMay } from "../session/mandates";
import { CheckBox, TextField } from "../ui/fields";
import { Footer, Modal } from "../ui/modal";
import { recordPath } from "../ui/record-link";
import { useToast } from "../ui/toast";
import { t } from "../words";

type Props = { type: Listed; row: Row<Listed> };

/** Actions are the buttons of a record's page: what people do with it. children are those that its type has of its own. */
export function Actions({ type, row, children }: Props & { children: ReactNode }) {
  const makes = useMakes();
  const may = useMay(type, row.id);
  return (
    <div className="ml-auto flex flex-wrap gap-2">
      <Ask type={type} id={row.id} />
      <Give type={type} row={row} />
      {children}
      {may.edit && (
        <Link className="button" to={`${recordPath(type, row.id)}/edit`}>
          {t("console.edit.edit")}
        </Link>
      )}
      {may.edit && makes(type) && <Copy type={type} row={row} />}
      {may.remove && <Remove type={type} row={row} />}
    </div>
  );
}

/** The part of a question that a record answers. */
const asks: Partial<Record<Listed, string>> = { users: "user", devices: "device", rights: "right" };

function Ask({ type, id }: { type: Listed; id: string }) {
  const part = asks[type];
  if (!part) return null;
  return (
    <Link className="button" to={`/check?${part}=${encodeURIComponent(id)}`}>
      {t("console.check.about")}
    </Link>
  );
}

/** Give gives access to, or on, the record, and takes it back. */
function Give({ type, row }: Props) {
  const { id } = row;
  const sides: Partial<Record<Listed, { to?: To; on?: Where }>> = {
    users: { to: { users: [id] } },
    user_groups: { to: { groups: [id] } },
    devices: { on: { devices: [id] } },
    device_groups: { on: { device_groups: [id] } },
    sites: { on: { sites: [id] } },
  };
  const side = sides[type];
  return side && <AccessButtons side={{ name: titleOf(row), ...side }} />;
}

/** Remove shows what will be lost before its button can be pressed. */
function Remove({ type, row }: Props) {
  return (
    <Modal title={t("console.edit.remove_title", { name: titleOf(row) })} button={t("console.edit.remove")}>
      {(close) => <RemoveBody type={type} row={row} close={close} />}
    </Modal>
  );
}

function RemoveBody({ type, row, close }: Props & { close: () => void }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const toast = useToast();
  const [accept, setAccept] = useState(false);
  const look = useQuery({
    queryKey: ["remove", type, row.id, accept],
    queryFn: () => remove(type, row.id, true, true, accept),
    staleTime: 0,
    gcTime: 0,
    retry: false,
  });
  const { field: reason, why } = useReason();
  const making = useMutation({
    mutationFn: () => remove(type, row.id, true, false, accept, why()),
    onSuccess: (saved) => {
      close();
      toast(saved);
      void navigate(-1);
      return queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "record" });
    },
  });
  const gains = look.error instanceof ApiError ? look.error.problem?.gains : undefined;
  const others = (look.data?.changes.length ?? 1) - 1;
  return (
    <>
      {look.data && <p>{others > 0 ? t("console.edit.remove_along", { count: others }) : t("console.edit.remove_alone")}</p>}
      {look.error && <p role="alert">{look.error.message}</p>}
      {gains && gains.gained.all > 0 && <ImpactView impact={gains} />}
      {(gains || accept) && <CheckBox label={t("console.edit.accept_gains")} checked={accept} onChange={setAccept} />}
      <UnmetList unmet={look.data?.unmet} />
      {look.data?.impact && <ImpactView impact={look.data.impact} />}
      {look.data && <ChangeList changes={look.data.changes} none="" />}
      {reason(look.data?.unmet)}
      <Footer
        close={close}
        go={() => making.mutate()}
        label={t("console.edit.remove")}
        disabled={!look.data || making.isPending}
        fault={making.error ? reasonOf(making.error, t("console.edit.not_saved")) : undefined}
      />
    </>
  );
}

function Copy({ type, row }: Props) {
  return (
    <Modal title={t("console.edit.copy_title", { name: titleOf(row) })} button={t("console.edit.copy")}>
      {(close) => <CopyBody type={type} row={row} close={close} />}
    </Modal>
  );
}

/** What a copy can take along. */
const alongOf: Partial<Record<Listed, string[]>> = { users: ["groups", "grants", "own_grants"], user_groups: ["members", "grants", "own_grants"] };

function CopyBody({ type, row, close }: Props & { close: () => void }) {
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const offered = alongOf[type] ?? [];
  const [along, setAlong] = useState(offered.slice(0, 1));
  const edits: Edit[] = name.trim() ? [{ op: "copy", type, id: row.id, name: name.trim(), with: along }] : [];
  return (
    <>
      <TextField label={t("console.field.name")} value={name} onChange={setName} />
      {offered.map((w) => (
        <CheckBox
          key={w}
          label={t(`console.edit.with_${w}`)}
          checked={along.includes(w)}
          onChange={(on) => setAlong(offered.filter((x) => (x === w ? on : along.includes(x))))}
        />
      ))}
      <Doing
        edits={edits}
        label={t("console.edit.copy")}
        close={close}
        done={(saved) => {
          const made = saved.changes.find((c) => c.op === "added");
          if (made) void navigate(recordPath(type, made.id));
        }}
      />
    </>
  );
}
