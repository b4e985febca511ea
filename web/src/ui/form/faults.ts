import type { ApiError } from "../../api/client";
import { fieldsOf, type Row, type Type } from "../../api/records";

/** faultsOf parts what the service says is wrong with a record: what belongs to a field, and what stands elsewhere. */
export function faultsOf<T extends Type>(type: T, refused: ApiError | undefined) {
  const faults = refused?.problem?.faults ?? [];
  const fieldOf = (path: string) => fieldsOf(type).find((f) => new RegExp(`[./]${f.name}([.[]|$)`).test(path.slice(path.indexOf("/"))))?.name;
  return {
    faults,
    elsewhere: faults.filter((f) => fieldOf(f.path) === undefined),
    faultOf: (name: keyof Row<T> & string) =>
      faults
        .filter((f) => fieldOf(f.path) === name)
        .map((f) => f.problem)
        .join(" "),
  };
}
