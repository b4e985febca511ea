// What a library of others makes of PATCH and of filters: it reads {patches: [{resource, operations}], filters: [{filter, resources}]} and writes what came of each.
import { readFileSync } from "node:fs";
import { scimPatch } from "scim-patch";
import { filter, parse } from "scim2-parse-filter";

const asked = JSON.parse(readFileSync(0, "utf8"));
const tried = (f) => {
  try {
    return { value: f() };
  } catch (e) {
    return { error: String(e.message ?? e) };
  }
};
process.stdout.write(
  JSON.stringify({
    patches: (asked.patches ?? []).map(({ resource, operations }) => tried(() => scimPatch(resource, operations, { mutateDocument: false }))),
    filters: (asked.filters ?? []).map(({ filter: text, resources }) => tried(() => resources.filter(filter(parse(text))).map((r) => r.id))),
  }),
);
