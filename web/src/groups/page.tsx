import type { UserGroup } from "../api/records";
import { Rest } from "../records/rest";
import { ReachSection } from "../reach/table";
import { Uses } from "../reach/uses";
import { Members } from "./members";

/** GroupPage begins with what a group amounts to and the lines that give it that, then who is in it. */
export function GroupPage({ row }: { row: UserGroup }) {
  return (
    <>
      <ReachSection type="user_groups" id={row.id} />
      <Members group={row} />
      <Uses type="user_groups" id={row.id} />
      <Rest type="user_groups" row={row} elsewhere={["members"]} />
    </>
  );
}
