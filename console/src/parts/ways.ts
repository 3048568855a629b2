import type { Schemas } from "../api/client";

export type Way = NonNullable<Schemas["Grant"]["via"]>[number];

// ways are how somebody can have proved themselves, in words.
export const ways: Record<Way, string> = {
  app_token: "an app, in any way",
  app_secret: "an app's secret",
  app_key: "an app's key",
  app_certificate: "an app's certificate",
  app_issuer: "another issuer's word",
  app_acme: "an ACME account",
  person_token: "the command line",
  console_session: "the console",
};
