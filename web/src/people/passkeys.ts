import { body, api, type Schemas } from "../api/client";

/** Whether this browser can ask passkeys, with the forms of Web Authentication that are written as JSON. */
export const canAsk = () =>
  typeof PublicKeyCredential !== "undefined" && "parseRequestOptionsFromJSON" in PublicKeyCredential;

type Answer = Schemas["PasskeyAnswer"]["response"];

function answered(c: Credential | null): Answer {
  if (!(c instanceof PublicKeyCredential)) throw new Error("The passkey gave no answer. Try again.");
  return c.toJSON() as Answer;
}

/** What the browser says when nothing came of it is for programmers. */
async function asked(what: () => Promise<Credential | null>): Promise<Answer> {
  try {
    return answered(await what());
  } catch (e) {
    if (e instanceof DOMException && e.name === "NotAllowedError")
      throw new Error("The passkey was not used: it was cancelled, took too long, or is not here.", { cause: e });
    if (e instanceof DOMException && e.name === "InvalidStateError")
      throw new Error("This passkey is added already.", { cause: e });
    throw e;
  }
}

/** Adds a passkey to the person who is signed in. */
export async function addPasskey(name: string) {
  const q = await body(api.POST("/api/v1/factors/passkey/question"));
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(
    q.options as PublicKeyCredentialCreationOptionsJSON,
  );
  const response = await asked(() => navigator.credentials.create({ publicKey }));
  return body(api.POST("/api/v1/factors/passkey", { body: { name, response } }));
}

/** Ends signing in with a passkey. */
export async function provePasskey() {
  const q = await body(api.POST("/api/v1/session/passkey/question"));
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(q.options as PublicKeyCredentialRequestOptionsJSON);
  const response = await asked(() => navigator.credentials.get({ publicKey }));
  return body(api.POST("/api/v1/session/passkey", { body: { response } }));
}
