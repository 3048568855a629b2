// words put actions together as people think of them; strong ones are those that give values or access away.
export const words = [
  { word: "reads", actions: ["read_value"], strong: true },
  { word: "uses keys", actions: ["encrypt", "decrypt", "sign", "verify"], strong: true },
  { word: "gets certificates", actions: ["issue"], strong: true },
  { word: "grants", actions: ["grant"], strong: true },
  { word: "manages", actions: ["change_item", "retire", "shred", "change_rules"], strong: false },
  { word: "writes", actions: ["write_version"], strong: false },
  { word: "audits", actions: ["read_trail"], strong: false },
  { word: "sees", actions: ["list", "see_metadata"], strong: false },
];

// environments are where an app can run.
export const environments = [
  { value: "", text: "any environment" },
  { value: "production", text: "production" },
  { value: "staging", text: "staging" },
  { value: "development", text: "development" },
];

// proofs are sign-in methods: what each is called, what it means, and what the button says.
export const proofs = {
  key: {
    name: "public key",
    about: "The app signs a short statement with the private half, which stays where it was made. Nothing secret is stored on either side.",
    action: "Register the key",
  },
  host: {
    name: "code for a host",
    about:
      "A code that is good once, for half an hour. On the host, tansu enrol exchanges it for a key pair that is made there. " +
      "A second use raises an alarm in the trail.",
    action: "Create a code",
  },
  issuer: {
    name: "issuer",
    about:
      "Whoever presents a token that this issuer has signed, with this audience and exactly these claims, is the app: " +
      "a pipeline job, for instance.",
    action: "Register it",
  },
  certificate: {
    name: "certificate",
    about: "The app shows the certificate when it connects. Its tokens are worth nothing without it.",
    action: "Register it",
  },
  acme: {
    name: "key for ACME accounts",
    about:
      "Whoever has it registers a client of ACME, such as certbot, whose certificates are then issued to the app. " +
      "It is shown only once, and good until it is ended.",
    action: "Create a key",
  },
  acme_account: { name: "ACME account", about: "A client of ACME that acts as the app.", action: "" },
  appsecret: {
    name: "client secret",
    about: "A password for the app, shown only once, which it has to keep. Prefer any other method.",
    action: "Create a secret",
  },
  enrol: {
    name: "enrolment code",
    about: "They choose a new password with it. Whoever has it can sign in as them.",
    action: "Create a code",
  },
};
