// A provider of OpenID Connect by a library of others. It is told {port, client, people} in its first line of input, and writes "ready" once it listens.
import { createInterface } from "node:readline";
import Provider from "oidc-provider";

const lines = createInterface({ input: process.stdin })[Symbol.asyncIterator]();
const asked = JSON.parse((await lines.next()).value);
const issuer = `http://localhost:${asked.port}`;
const provider = new Provider(issuer, {
  clients: [
    {
      client_id: "sentier",
      client_secret: "the-provider-knows-it",
      redirect_uris: [`${asked.client}/callback`],
      backchannel_logout_uri: `${asked.client}/logout`,
      post_logout_redirect_uris: [],
    },
    { client_id: "gate", client_secret: "of-the-gate", grant_types: ["client_credentials"], response_types: [], redirect_uris: [] },
  ],
  claims: { openid: ["sub"], profile: ["name", "preferred_username", "groups"], email: ["email", "email_verified"], acr: null, amr: null },
  conformIdTokenClaims: false,
  findAccount: (_ctx, id) => ({ accountId: id, claims: () => ({ sub: id, ...asked.people[id] }) }),
  features: {
    devInteractions: { enabled: true },
    backchannelLogout: { enabled: true },
    clientCredentials: { enabled: true },
    resourceIndicators: {
      enabled: true,
      useGrantedResource: () => true,
      getResourceServerInfo: (_ctx, resource) => ({ scope: "decide", audience: resource, accessTokenFormat: "jwt" }),
    },
  },
  // The client is on this very machine, where the library reaches nobody by itself.
  fetch: (url, { dispatcher: _, ...options }) => globalThis.fetch(url, options),
  jwks: asked.jwks,
  cookies: { keys: ["of the tests alone"] },
});
const server = provider.listen(asked.port, "127.0.0.1", () => process.stdout.write("ready\n"));
for await (const line of lines) {
  // {"people": {…}}: from now on they are otherwise
  Object.assign(asked, JSON.parse(line));
  process.stdout.write("done\n");
}
server.close();
