/** An amount that a person wrote, with a comma or a point; nothing while it is no number of zero or more. */
export function amountOf(text: string): number | undefined {
  const amount = Number(text.trim().replace(",", "."));
  return text.trim() && Number.isFinite(amount) && amount >= 0 ? amount : undefined;
}
