import { serviceNow } from "../session/clock";
import { X } from "lucide-react";
import { useState } from "react";
import type { Row } from "../api/client";
import { TextInput } from "../edit/inputs";
import { useChange } from "../edit/use-change";
import { Picker } from "../ui/picker";
import { RecordLink } from "../ui/record-link";
import { local } from "../ui/time";
import { say } from "../words";
import { Fault } from "../ui/notice";

type Member = string | { user: string; from?: string; until?: string };

const shown = 60;

/** Members are the people of a group with their ends; each is added and dropped by itself, so that two who work on one group do not collide. */
export function Members({ group }: { group: Row }) {
  const { make, fault } = useChange();
  const [word, setWord] = useState("");
  const [user, setUser] = useState("");
  const [until, setUntil] = useState("");
  const members = ((group.members as Member[] | undefined) ?? []).map((m) => (typeof m === "string" ? { user: m } : m));
  const found = members.filter((m) => m.user.includes(word.trim().toLowerCase()));
  const entry = { type: "user_groups", id: group.id, list: "members" as const };
  const add = async () => {
    if (await make([{ op: "add", ...entry, value: user, until: until.trim() || undefined }])) {
      setUser("");
      setUntil("");
    }
  };
  return (
    <section className="sheet" data-members>
      <div className="flex flex-wrap items-end gap-3 border-b border-line px-4 py-2.5">
        <h2 className="mr-auto self-center">
          {say("console.field.members")} <span className="font-normal text-soft tabular-nums">{members.length}</span>
        </h2>
        <div className="w-52">
          <Picker label={say("console.members.add")} type="users" value={user} onChange={setUser} />
        </div>
        <div className="w-48">
          <TextInput label={say("console.field.until")} hint="2026-12-01T17:00:00Z" value={until} onChange={(v) => setUntil(String(v))} />
        </div>
        <button type="button" className="button" disabled={!user} onClick={() => void add()}>
          {say("console.edit.add")}
        </button>
      </div>
      <Fault text={fault} className="mx-4 my-2" />
      {members.length > 20 && (
        <div className="w-64 px-4 pt-2">
          <TextInput label={say("console.search")} value={word} onChange={(v) => setWord(String(v))} />
        </div>
      )}
      <ul className="grid gap-x-6 px-4 py-3 sm:grid-cols-2">
        {found.slice(0, shown).map((m) => (
          <li key={`${m.user} ${m.from ?? ""} ${m.until ?? ""}`} className="flex items-center gap-2 py-0.5">
            <span className="min-w-0 flex-1 truncate">
              <RecordLink type="users" id={m.user} />
              {m.from && <span className="text-soft"> {say("console.members.from", { time: `${local(m.from, "UTC")} UTC` })}</span>}
              {m.until && (
                <span className={new Date(m.until) < serviceNow() ? "text-breaks" : "text-soft"}>
                  {" "}
                  {say("console.members.until", { time: `${local(m.until, "UTC")} UTC` })}
                </span>
              )}
            </span>
            <button
              type="button"
              className="flex size-[24px] cursor-pointer items-center justify-center rounded hover:bg-sunk"
              aria-label={say("console.members.drop", { user: m.user })}
              onClick={() => void make([{ op: "drop", ...entry, value: m.user }])}
            >
              <X size={14} aria-hidden />
            </button>
          </li>
        ))}
      </ul>
      {members.length === 0 && <p className="px-4 pb-3 text-soft">{say("console.members.none")}</p>}
      {found.length > shown && <p className="px-4 pb-3 text-soft">{say("console.members.more", { n: found.length - shown })}</p>}
    </section>
  );
}
