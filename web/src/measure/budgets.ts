import type { Schemas } from "../api/client";
import { amountOf } from "../shared/amount";
import { valueOf } from "../shared/wording";

type Budget = Schemas["Budget"];

/** Metrics that have budgets; a person writes their amounts in `unit`, of which `factor` make one of the metric's. */
export const budgetMetrics: { value: Budget["metric"]; label: string; unit: string; of: string; factor: number }[] = [
  { value: "largest-contentful-paint", label: "largest paint", unit: "ms", of: "ms", factor: 1 },
  { value: "first-contentful-paint", label: "first paint", unit: "ms", of: "ms", factor: 1 },
  { value: "layout-shift", label: "layout shift", unit: "", of: "1", factor: 1 },
  { value: "total-blocking-time", label: "blocking time", unit: "ms", of: "ms", factor: 1 },
  { value: "visually-complete", label: "visually complete", unit: "ms", of: "ms", factor: 1 },
  { value: "first-byte", label: "first byte", unit: "ms", of: "ms", factor: 1 },
  { value: "load", label: "load", unit: "ms", of: "ms", factor: 1 },
  { value: "transferred", label: "transferred", unit: "kB", of: "bytes", factor: 1000 },
  { value: "content", label: "content", unit: "kB", of: "bytes", factor: 1000 },
  { value: "requests", label: "requests", unit: "", of: "1", factor: 1 },
];

/** A budget as a person says it; nothing while the amount is no number that makes sense. */
export function budgetOf(wish: {
  metric: Budget["metric"];
  class: string;
  device: "" | "desktop" | "phone";
  against: string;
  amount: string;
}): Budget | undefined {
  const amount = amountOf(wish.amount);
  if (amount === undefined) return undefined;
  const b: Budget = { metric: wish.metric };
  if (wish.class) b.class = wish.class;
  if (wish.device) b.device = wish.device;
  if (wish.against === "over") {
    if (amount > 1000) return undefined;
    return { ...b, over: amount / 100 };
  }
  return { ...b, most: amount * (budgetMetrics.find((m) => m.value === wish.metric)?.factor ?? 1) };
}

/** What it may cost, in words. */
export function limitOf(b: Budget): string {
  if (b.over !== undefined) return `${Math.round(b.over * 100)} % over the mark`;
  return valueOf(budgetMetrics.find((m) => m.value === b.metric)?.of ?? "1", b.most ?? 0);
}
