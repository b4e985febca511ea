import type { User } from "../api/records";
import { Facts } from "../records/facts";
import { Mentioned } from "../records/mentioned";
import { ReachSection } from "../reach/table";

export function PersonPage({ row }: { row: User }) {
  return (
    <>
      <div className="grid items-start gap-5 lg:grid-cols-[1.5fr_1fr]">
        <Facts type="users" row={row} />
        <Mentioned type="users" id={row.id} />
      </div>
      <ReachSection type="users" id={row.id} />
    </>
  );
}
