// A service of others that keeps people and groups and speaks SCIM 2.0: it reads {users, groups} from its standard input, listens on loopback, says where, and is told
// what it keeps from then on by PUT /keeps.
import { createServer } from "node:http";
import express from "express";
import SCIMMY from "scimmy";
import SCIMMYRouters from "scimmy-routers";

let kept = { users: [], groups: [] };
const find = (list, id) => {
  const one = list.find((x) => x.id === id);
  if (!one) throw new SCIMMY.Types.Error(404, null, `${id} is not here`);
  return one;
};
const readOnly = () => {
  throw new SCIMMY.Types.Error(403, null, "nothing is changed here");
};
for (const [resource, list] of [
  [SCIMMY.Resources.User, () => kept.users],
  [SCIMMY.Resources.Group, () => kept.groups],
])
  SCIMMY.Resources.declare(resource, { egress: (r) => (r.id ? find(list(), r.id) : list()), ingress: readOnly, degress: readOnly });

const app = express();
// The library pages by numbers alone, and a query holds texts.
app.set("query parser", (text) => Object.fromEntries([...new URLSearchParams(text)].map(([k, v]) => [k, k === "startIndex" || k === "count" ? Number(v) : v])));
app.put("/keeps", express.json({ limit: "50mb" }), (req, res) => {
  kept = req.body;
  res.status(204).end();
});
app.use(
  "/scim/v2",
  new SCIMMYRouters({
    type: "bearer",
    handler: (req) => {
      if (req.header("Authorization") !== `Bearer ${process.argv[2]}`) throw new Error("not the token");
      return "a reader";
    },
  }),
);
const server = createServer(app);
server.listen(0, "127.0.0.1", () => console.log(`http://127.0.0.1:${server.address().port}`));
process.stdin.resume();
process.stdin.on("end", () => process.exit(0));
