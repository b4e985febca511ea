import { membershipOf, type Membership } from "../api/records";
import { Adder } from "../ui/combobox";
import { Generated, TakeOut } from "../ui/form/generated";
import { changedIn } from "../ui/form/lists";
import type { Form } from "../ui/form/use-record-form";
import { Name } from "../ui/record-link";
import { TimeField } from "../ui/time-field";
import { t } from "../words";

/** GroupFields asks what a group of people is. Members of one that is there come and go on its page, one by one. */
export function GroupFields({ form }: { form: Form<"user_groups"> }) {
  return <Generated form={form} elsewhere={form.isNew ? [] : ["members"]} own={{ members: <MembersField form={form} /> }} />;
}

function MembersField({ form }: { form: Form<"user_groups"> }) {
  const members = (form.row.members ?? []).map(membershipOf);
  const put = (change: (list: Membership[]) => Membership[]) =>
    form.set("members", (old) => change((old ?? []).map(membershipOf)).map((m) => (m.from || m.until ? m : m.user)));
  return (
    <div className="flex flex-col gap-2">
      <Adder label={t("console.field.members")} types={["users"]} onPick={(c) => put((list) => [...list, { user: c.id }])} />
      {members.map((m, i) => (
        <div key={`${m.user} ${i}`} className="flex items-start gap-2">
          <span className="min-w-0 flex-1 truncate pt-6">
            <Name type="users" id={m.user} />
          </span>
          <div className="w-64">
            <TimeField label={t("console.field.until")} value={m.until} onChange={(until) => put((list) => changedIn(list, i, m, (x) => ({ ...x, until })))} />
          </div>
          <span className="pt-5">
            <TakeOut name={m.user} onClick={() => put((list) => list.filter((_, k) => k !== i))} />
          </span>
        </div>
      ))}
    </div>
  );
}
