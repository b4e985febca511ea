import { useQuery } from "@tanstack/react-query";
import { HoverCard } from "radix-ui";
import { get } from "../api/records";
import { Busy } from "../ui/notice";
import { Name } from "../ui/record-link";
import { SchedulePreview } from "./preview";

/** ScheduleName names a schedule; pointed at, or reached by keyboard, it shows how it runs. */
export function ScheduleName({ id }: { id: string }) {
  return (
    <HoverCard.Root openDelay={250}>
      <HoverCard.Trigger asChild>
        <button type="button" className="min-h-[24px] cursor-help underline decoration-dotted underline-offset-3">
          <Name type="schedules" id={id} />
        </button>
      </HoverCard.Trigger>
      <HoverCard.Portal>
        <HoverCard.Content side="bottom" align="start" sideOffset={6} className="z-50 w-[min(92vw,36rem)]">
          <Fortnight id={id} />
        </HoverCard.Content>
      </HoverCard.Portal>
    </HoverCard.Root>
  );
}

function Fortnight({ id }: { id: string }) {
  const found = useQuery({ queryKey: ["record", "schedules", id], queryFn: () => get("schedules", id) });
  return found.data ? <SchedulePreview schedule={found.data} /> : <Busy />;
}
