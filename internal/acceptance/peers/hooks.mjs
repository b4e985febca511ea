// Whether a library of others takes what was sent: it reads [{secret, body, headers}] and writes, of each, "" or why not.
import { readFileSync } from "node:fs";
import { Webhook } from "standardwebhooks";

const asked = JSON.parse(readFileSync(0, "utf8"));
process.stdout.write(
  JSON.stringify(
    asked.map(({ secret, body, headers }) => {
      try {
        new Webhook(secret, { format: "raw" }).verify(body, headers);
        return "";
      } catch (e) {
        return String(e.message);
      }
    }),
  ),
);
