import { useQuery } from "@tanstack/react-query";
import { get, names, type Listed } from "../api/records";
import { useReads } from "../session/mandates";

/** How many names are asked for in one request: their ids stand in its address. */
const together = 100;

type Waiting = { ref: string; done: (name: string | undefined) => void; failed: (error: unknown) => void };
let waiting: Waiting[] = [];

/** nameOf asks for the name of a record; all that one drawing of the page asks for goes in one request. */
export function nameOf(type: Listed, id: string): Promise<string | null> {
  return new Promise((done, failed) => {
    if (waiting.length === 0) setTimeout(askAll, 5);
    waiting.push({ ref: `${type}/${id}`, done: (name) => done(name ?? null), failed });
  });
}

function askAll() {
  const all = waiting;
  waiting = [];
  for (let at = 0; at < all.length; at += together) void ask(all.slice(at, at + together));
}

async function ask(some: Waiting[]) {
  try {
    const found = await names([...new Set(some.map((w) => w.ref))]);
    for (const w of some) {
      const slash = w.ref.indexOf("/");
      w.done(found[w.ref.slice(0, slash)]?.[w.ref.slice(slash + 1)]);
    }
  } catch (error) {
    for (const w of some) w.failed(error);
  }
}

/** useName gives the name of a record; undefined until it is known, and the id where there is none. */
export function useName(type: Listed, id: string, known?: string): string | undefined {
  const reads = useReads(); // whoever sees no records is told names with what they may see
  const { data, isError } = useQuery({
    queryKey: ["name", type, id],
    queryFn: () => nameOf(type, id),
    enabled: reads && known === undefined && id !== "",
    staleTime: 60_000,
  });
  return known ?? (data === null || isError || !reads ? id : data);
}

/** usePointName gives the name of a point, written device/point, with that of its device. */
export function usePointName(ref: string): string | undefined {
  const [device = "", point] = ref.split("/");
  const { data, isError } = useQuery({
    queryKey: ["record", "devices", device],
    queryFn: () => get("devices", device),
    enabled: point !== undefined,
    staleTime: 60_000,
  });
  if (point === undefined || isError) return ref;
  return data && `${data.name ?? device} / ${data.points?.find((p) => p.id === point)?.name ?? point}`;
}
