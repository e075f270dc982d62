const names: [RegExp, string][] = [
  [/Edg\/(\d+)/, "Edge"],
  [/OPR\/(\d+)/, "Opera"],
  [/Firefox\/(\d+)/, "Firefox"],
  [/Chrom(?:e|ium)\/(\d+)/, "Chromium"],
  [/Version\/(\d+).*Safari/, "Safari"],
];
const systems: [RegExp, string][] = [
  [/Android/, "Android"],
  [/iPhone|iPad/, "iOS"],
  [/Windows/, "Windows"],
  [/Mac OS X/, "macOS"],
  [/Linux/, "Linux"],
];

/** What a browser calls itself, in short; as it came when nothing of it is known. */
export function browserOf(agent: string): string {
  const name = names.map(([p, n]) => [agent.match(p)?.[1], n] as const).find(([v]) => v);
  const system = systems.find(([p]) => p.test(agent))?.[1];
  if (!name) return agent.slice(0, 60) || "An unknown browser";
  return `${name[1]} ${name[0]}${system ? ` on ${system}` : ""}`;
}
