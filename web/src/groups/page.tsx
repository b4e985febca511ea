import type { UserGroup } from "../api/records";
import { Facts } from "../records/facts";
import { Mentioned } from "../records/mentioned";
import { ReachSection } from "../reach/table";
import { Uses } from "../reach/uses";
import { Members } from "./members";

export function GroupPage({ row }: { row: UserGroup }) {
  return (
    <>
      <div className="grid items-start gap-5 lg:grid-cols-[1.5fr_1fr]">
        <div className="flex min-w-0 flex-col gap-5">
          <Members group={row} />
          <Facts type="user_groups" row={row} elsewhere={["members"]} />
        </div>
        <Mentioned type="user_groups" id={row.id} />
      </div>
      <ReachSection type="user_groups" id={row.id} />
      <Uses type="user_groups" id={row.id} />
    </>
  );
}
