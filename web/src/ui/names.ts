import { useQuery } from "@tanstack/react-query";
import { batched } from "../api/batched";
import { get, names, type Listed } from "../api/records";
import { useReads } from "../session/mandates";

const askNames = batched(100, async (refs) => {
  const found = await names(refs);
  return new Map(Object.entries(found).flatMap(([type, byId]) => Object.entries(byId).map(([id, name]) => [`${type}/${id}`, name] as const)));
});

/** nameOf asks for the name of a record. */
export const nameOf = async (type: Listed, id: string): Promise<string | null> => (await askNames(`${type}/${id}`)) ?? null;

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
