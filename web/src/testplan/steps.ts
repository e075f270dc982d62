import type { Schemas } from "../api/client";

type Step = Schemas["Step"];
type Target = Schemas["Target"];

/** One line of the step editor: a verb, what it is done to, and a value. */
export interface Line {
  verb: Verb;
  target: Target;
  value: string;
  /** The value is never told. One that is kept on the server comes empty, and stays when it is left so. */
  secret?: boolean;
}

/** The verbs, as people say them; what they need beside the target, if they have one. */
export const verbs = {
  go: { says: "go to", value: "path" },
  click: { says: "click", target: true },
  hover: { says: "point at", target: true },
  scrollTo: { says: "scroll to", target: true },
  fill: { says: "fill", target: true, value: "with" },
  choose: { says: "choose in", target: true, value: "this" },
  press: { says: "press the key", value: "key" },
  wait: { says: "wait", value: "milliseconds" },
  visible: { says: "expect to see", target: true },
  hidden: { says: "expect not to see", target: true },
  text: { says: "expect the text in", target: true, value: "text" },
  noText: { says: "expect no text in", target: true, value: "text" },
  count: { says: "expect to count", target: true, value: "number" },
  url: { says: "expect the address", value: "path; * for anything" },
  status: { says: "expect the status", value: "200" },
  request: { says: "expect a request for", value: "path; * for anything" },
  mail: { says: "expect a mail with", value: "text" },
  payment: { says: "expect a payment with", value: "text" },
} as const satisfies Record<string, { says: string; target?: true; value?: string }>;

export type Verb = keyof typeof verbs;

export const verbList = (Object.keys(verbs) as Verb[]).map((verb) => ({ verb, says: verbs[verb].says }));

export const takesTarget = (v: Verb) => "target" in verbs[v];
export const valueOf = (v: Verb): string => {
  const d = verbs[v];
  return "value" in d ? d.value : "";
};

/** A step's lines: one, or one for each thing that is expected. */
export function linesOf(step: Step): Line[] {
  const line = (verb: Verb, target: Target = {}, value: string | number = ""): Line => ({
    verb,
    target: { ...target },
    value: String(value),
  });
  if (step.go) return [line("go", {}, step.go)];
  if (step.click) return [line("click", step.click)];
  if (step.hover) return [line("hover", step.hover)];
  if (step.scrollTo) return [line("scrollTo", step.scrollTo)];
  if (step.press) return [line("press", {}, step.press)];
  if (step.fill) return [{ ...line("fill", step.fill.in, step.fill.value), secret: step.fill.secret }];
  if (step.choose) return [line("choose", step.choose.in, step.choose.value)];
  if (step.wait) return [line("wait", {}, step.wait.milliseconds)];
  const e = step.expect ?? {};
  const out: Line[] = [];
  if (e.url) out.push(line("url", {}, e.url));
  if (e.status) out.push(line("status", {}, e.status));
  if (e.visible) out.push(line("visible", e.visible));
  if (e.hidden) out.push(line("hidden", e.hidden));
  if (e.text) out.push(line("text", e.text.in, e.text.contains));
  if (e.noText) out.push(line("noText", e.noText.in, e.noText.contains));
  if (e.count) out.push(line("count", e.count.of, e.count.is));
  if (e.request) out.push(line("request", {}, e.request));
  if (e.mail) out.push(line("mail", {}, e.mail));
  if (e.payment) out.push(line("payment", {}, e.payment));
  return out;
}

/** What is missing from a line, in words; "" when it is whole. */
export function lacking(l: Line): string {
  if (takesTarget(l.verb) && !Object.values(l.target).some((v) => v)) return "Say what on the page is meant.";
  const value = l.value.trim();
  if (valueOf(l.verb) && !value && l.verb !== "fill") return `Say ${valueOf(l.verb)}.`;
  if ((l.verb === "go" || l.verb === "url") && !/^[/*]/.test(value)) return "A path begins with /.";
  if (l.verb === "wait" || l.verb === "count" || l.verb === "status") {
    if (!/^\d+$/.test(value)) return "This must be a whole number.";
  }
  return "";
}

/** The step that a line says. */
export function stepOf(l: Line): Step {
  const target = Object.fromEntries(Object.entries(l.target).filter(([, v]) => v)) as Target;
  const value = l.value;
  switch (l.verb) {
    case "go":
    case "press":
      return { [l.verb]: value.trim() };
    case "click":
    case "hover":
    case "scrollTo":
      return { [l.verb]: target };
    case "fill":
      return { fill: l.secret ? { in: target, value, secret: true } : { in: target, value } };
    case "choose":
      return { choose: { in: target, value } };
    case "wait":
      return { wait: { milliseconds: Number(value) } };
    case "visible":
    case "hidden":
      return { expect: { [l.verb]: target } };
    case "text":
    case "noText":
      return { expect: { [l.verb]: { in: target, contains: value } } };
    case "count":
      return { expect: { count: { of: target, is: Number(value) } } };
    case "status":
      return { expect: { status: Number(value) } };
    case "url":
    case "request":
    case "mail":
    case "payment":
      return { expect: { [l.verb]: value.trim() } };
  }
}

/** The ways to name an element; one is edited, whatever else a target has is kept. */
export const ways = [
  { way: "role", says: "role" },
  { way: "label", says: "field labelled" },
  { way: "text", says: "text" },
  { way: "css", says: "selector" },
] as const;
export type Way = (typeof ways)[number]["way"];

export function wayOf(t: Target): Way {
  // One that was chosen and is still empty counts.
  if (t.css !== undefined) return "css";
  if (t.label !== undefined) return "label";
  if (t.text !== undefined) return "text";
  return "role";
}
