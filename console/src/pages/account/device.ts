const SYSTEMS = [
  [/Android/, "Android"],
  [/iPhone|iPad/, "iOS"],
  [/Windows/, "Windows"],
  [/Mac OS X|Macintosh/, "macOS"],
  [/Linux/, "Linux"],
] as const;

/** What a browser says of itself, in words: only its system, which is what people know their devices by. */
export function deviceName(agent: string): string {
  if (agent === "") return "A browser";
  const system = SYSTEMS.find(([pattern]) => pattern.test(agent));
  return system ? `A browser on ${system[1]}` : (agent.split(/[ (]/)[0] ?? agent);
}
