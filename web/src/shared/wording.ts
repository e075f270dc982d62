/** How times and sizes are said: in the reader's own language and zone, everywhere alike. */

type Time = string | number | Date;

/** The reader's languages, as their browser has them. */
const languages = () => (typeof navigator === "undefined" ? undefined : [...navigator.languages]);

const made = new Map<string, Intl.DateTimeFormat>(); // making one takes longer than using it

function format(at: Time, options: Intl.DateTimeFormatOptions): string {
  const name = JSON.stringify(options);
  const f = made.get(name) ?? new Intl.DateTimeFormat(languages(), options);
  made.set(name, f);
  return f.format(new Date(at));
}

/** The year is said when it is not this one. */
const year = (at: Time, now: Date): Intl.DateTimeFormatOptions =>
  new Date(at).getFullYear() === now.getFullYear() ? {} : { year: "numeric" };

/** A moment, to the minute. */
export function moment(at: Time, now = new Date()): string {
  return format(at, { ...year(at, now), day: "numeric", month: "short", hour: "numeric", minute: "2-digit" });
}

/** The same where there is little room: by the clock of 24 hours. */
export function short(at: Time, now = new Date()): string {
  return format(at, {
    ...year(at, now),
    day: "numeric",
    month: "short",
    hour: "2-digit",
    minute: "2-digit",
    hourCycle: "h23",
  });
}

/** A day. */
export function day(at: Time, now = new Date()): string {
  return format(at, { ...year(at, now), day: "numeric", month: "short" });
}

/** A day with its weekday. */
export function weekday(at: Time, now = new Date()): string {
  return format(at, { ...year(at, now), weekday: "short", day: "numeric", month: "short" });
}

/** A day of a calendar, such as "2026-11-27", whatever the reader's zone; with its year. */
export function calendarDay(ymd: string): string {
  const [y, m, d] = ymd.split("-").map(Number);
  return format(Date.UTC(y!, m! - 1, d), { day: "numeric", month: "short", year: "numeric", timeZone: "UTC" });
}

/** The month of a day, short; with its year in full, since “Sep 26” is a day. */
export const month = (at: Time) => format(at, { month: "short", year: "numeric" });

/** A count, with the separators that the reader is used to. */
export const count = (n: number) => n.toLocaleString(languages());

/** A number of things, such as "1 look" and "2,500 looks". */
export const counted = (n: number, one: string, many = `${one}s`) => `${count(n)} ${n === 1 ? one : many}`;

/** A moment in full, with its zone. */
export const inFull = (at: Time) => format(at, { dateStyle: "full", timeStyle: "long" });

/** The name of the reader's zone at a moment, short. */
export function zoneOf(at: Time): string {
  const parts = new Intl.DateTimeFormat(languages(), { timeZoneName: "short" }).formatToParts(new Date(at));
  return parts.find((p) => p.type === "timeZoneName")?.value ?? "";
}

/** A number of bytes, in units of a thousand. */
export function bytes(n: number): string {
  if (Math.abs(n) >= 1e6) return `${(n / 1e6).toFixed(1)} MB`;
  return Math.abs(n) >= 1000 ? `${(n / 1000).toFixed(1)} kB` : `${n} B`;
}

/** A number of seconds in the largest unit of which it has at least one, with at most one digit behind the point. */
export function span(seconds: number): string {
  for (const [size, unit] of [
    [86_400, "d"],
    [3_600, "h"],
    [60, "min"],
  ] as const) {
    if (Math.abs(seconds) >= size) return `${Number((seconds / size).toFixed(1))} ${unit}`;
  }
  return `${seconds} s`;
}

/** A measured value as a person reads it: of ms, bytes, or a number. */
export function valueOf(unit: string, v: number): string {
  if (unit === "ms") return Math.abs(v) >= 1000 ? `${(v / 1000).toFixed(1)} s` : `${Math.round(v)} ms`;
  if (unit === "bytes") return bytes(v);
  return Number.isInteger(v) ? String(v) : v.toFixed(2);
}

/** A difference, with its sign; one that is nothing as it is shown has none. */
export function differenceOf(unit: string, v: number): string {
  const shown = valueOf(unit, Math.abs(v));
  return Number.parseFloat(shown) === 0 ? shown : (v < 0 ? "−" : "+") + shown;
}

/** A setting's value in a few words. */
export function inWords(value: unknown): string {
  if (value === true) return "on";
  if (value === false) return "off";
  if (Array.isArray(value)) return value.length ? value.join(", ") : "none";
  return value === undefined || value === null || value === "" ? "none" : String(value);
}

/** The value of a setting in a few words: a time is not a bare number. */
export function settingInWords(type: string | undefined, value: unknown): string {
  return type === "seconds" && typeof value === "number" ? span(value) : inWords(value);
}

/** The kinds of runs, as people say them. */
export const runKinds = {
  mark: "Mark",
  try: "Try",
  promote: "Promotion",
  "roll back": "Rollback",
  check: "Check",
  "isolation test": "Cache isolation test",
  recheck: "Recheck",
  "culprit search": "Culprit search",
  measure: "Measurement",
  tidy: "Tidy",
} as const;

/** What runs come to. */
export const verdicts = ["clear", "broken", "unsure", "not checked"] as const;

/** The states of a change, in the order of its way. */
export const changeStates = [
  "drafted",
  "trying",
  "on staging",
  "checked",
  "promoting",
  "promoted",
  "marked",
  "settled",
  "rolling back",
  "restored",
  "rolled back",
  "discarded",
] as const;
