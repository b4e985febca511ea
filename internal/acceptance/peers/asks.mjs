// Asks by the client in TypeScript what a line of the input says, and tells how often the service was asked for it.
import { createInterface } from "node:readline";

const [, , at, service, token] = process.argv;
const { Client } = await import(at);
let asked = 0;
const client = new Client({
  service,
  token,
  fetch: (url, init) => {
    if (String(url).endsWith("/check")) asked++;
    return fetch(url, init);
  },
});
for await (const line of createInterface({ input: process.stdin })) {
  const [user, right, device] = line.split(" ");
  if (user === "follows") {
    while (!client.follows) await new Promise((go) => setTimeout(go, 20));
    console.log(JSON.stringify({ follows: true }));
    continue;
  }
  try {
    const { allowed, revision } = await client.check({ user, right, device });
    console.log(JSON.stringify({ allowed, revision, asked }));
  } catch (error) {
    console.log(JSON.stringify({ error: error.message, status: error.status, asked }));
  }
}
client.close();
