// Reads a value as an app, with the types that openapi-typescript has made of the interface's description and openapi-fetch, and says how
// many bytes it has.
//
//	npx openapi-typescript ../../../internal/httpapi/openapi.yaml -o tansu.d.ts && npx tsc
//	TANSU_ADDRESS=… TANSU_APP=ticket-api TANSU_SECRET_FILE=… node read.js ticketing-prod/db-password
import createClient from "openapi-fetch";
import { readFileSync } from "node:fs";
import type { components, paths } from "./tansu.js";

const environment = (name: string): string => process.env[name] ?? fail(`${name} is not set`);
const client = createClient<paths>({ baseUrl: environment("TANSU_ADDRESS") });

function fail(why: string): never {
  console.error(why);
  process.exit(1);
}

function refused(problem: components["schemas"]["Problem"]): never {
  return fail(problem.detail + (problem.receipt ? ` (receipt ${problem.receipt})` : ""));
}

const [drawer = "", item = ""] = (process.argv[2] ?? "").split("/");
const signedIn = await client.POST("/api/oauth/token", {
  body: {
    grant_type: "client_credentials",
    client_id: environment("TANSU_APP"),
    client_secret: readFileSync(environment("TANSU_SECRET_FILE"), "utf8").trim(),
  },
  headers: { "Content-Type": "application/x-www-form-urlencoded" },
});
if (!signedIn.data) fail(`not signed in: ${signedIn.response.status}`);
const value = await client.GET("/api/values/{drawer}/{item}", {
  params: { path: { drawer, item } },
  headers: { Authorization: `Bearer ${signedIn.data.access_token}` },
});
if (value.error) refused(value.error);
if (typeof value.data !== "object") fail(`${value.response.status}`); // it is bytes for whoever asks for application/octet-stream
console.log(`${value.data.reference} has ${Buffer.from(value.data.value, "base64").length} bytes`);
