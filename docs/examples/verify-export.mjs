// Verifies an export of the audit log, and checkpoints of it: node verify-export.mjs audit.jsonl [checkpoints.jsonl [KEY]]
import { createHash, createPublicKey, verify } from "node:crypto";
import { readFileSync } from "node:fs";

const [file, checkpoints, key] = process.argv.slice(2);
const lines = (path) => readFileSync(path, "utf8").split("\n").filter(Boolean);
const number = (n) => { const b = Buffer.alloc(8); b.writeBigUInt64BE(BigInt(n)); return b; };
const bytes = (b) => Buffer.concat([number(b.length), b]);
const text = (s) => bytes(Buffer.from(s ?? "", "utf8"));
const fail = (why) => { console.error(why); process.exit(1); };

// Microseconds since 1970 of an instant such as 2026-11-24T10:00:00.123456Z.
const micros = (at) => {
  const [, seconds, part = ""] = /^(.{19})(?:\.(\d+))?Z$/.exec(at);
  return BigInt(Date.parse(seconds + "Z")) * 1000n + BigInt(part.padEnd(6, "0"));
};
// What an entry says beside, as it is written: the value of “more”, to the byte.
const more = (line) => {
  const from = line.indexOf(',"more":');
  return from < 0 ? "" : line.slice(from + 8, line.lastIndexOf(',"chain":"'));
};
const fields = ["kind", "outcome", "by", "via", "token", "from", "user", "right", "device", "point"];
const chains = new Map();
let before, last = 0;
for (const line of lines(file)) {
  const e = JSON.parse(line);
  if (before && e.entry !== last + 1) fail(`entry ${last + 1} is missing`);
  if (before || e.entry === 1) {
    const all = [text("sentier-audit/1"), bytes(before ?? Buffer.alloc(0)), number(e.entry), number(micros(e.at)), ...fields.map((f) => text(e[f])), number(e.revision ?? 0), text(more(line))];
    if (createHash("sha256").update(Buffer.concat(all)).digest("hex") !== e.chain) fail(`entry ${e.entry} is not as it was written`);
  }
  chains.set((last = e.entry), e.chain);
  before = Buffer.from(e.chain, "hex");
}
for (const c of checkpoints ? lines(checkpoints).map((l) => JSON.parse(l)) : []) {
  const signed = `sentier-checkpoint/1\n${c.entry}\n${c.at}\n${c.chain}\n`;
  const der = Buffer.concat([Buffer.from("302a300506032b6570032100", "hex"), Buffer.from(c.key, "base64")]);
  if ((key && key !== c.key) || !verify(null, Buffer.from(signed), createPublicKey({ key: der, format: "der", type: "spki" }), Buffer.from(c.signature, "base64"))) fail(`the checkpoint of entry ${c.entry} is not what its key has signed`);
  if (chains.has(c.entry) && chains.get(c.entry) !== c.chain) fail(`entry ${c.entry} is another than the one of which a checkpoint tells`);
  if (c.entry > last) fail(`entry ${last + 1} is missing: a checkpoint tells of entry ${c.entry}`);
}
console.log(`${chains.size} entries are as they were written`);
