/** What a NameID format or another URN is called for short. */
export function shortName(uri?: string): string {
  if (!uri) return "";
  return uri.startsWith("urn:oasis:") ? uri.slice(uri.lastIndexOf(":") + 1) : uri;
}

export const reachWords: Record<string, { text: string; state: string; means: string }> = {
  draft: { text: "Draft", state: "attention", means: "Rehearsals only; nobody else is touched." },
  circle: { text: "Circle", state: "attention", means: "Those in the circle; everybody else is as before." },
  everyone: { text: "Everyone", state: "sound", means: "All who are let in by the rules." },
  closed: { text: "Closed", state: "broken", means: "Nobody, not even in rehearsals." },
};

export const flowWords: Record<string, string> = {
  sp: "SP-initiated",
  idp: "begun at the gate",
  provider: "IdP-initiated",
  slo: "sign-out",
  client: "a client's call",
};

export const kindWords: Record<string, string> = {
  saml: "SAML",
  oidc: "OpenID Connect",
  oauth2: "OAuth 2.0",
  directory: "Own directory",
  ldap: "LDAP",
  kerberos: "Kerberos",
  guarded: "Guarded",
  link: "Link",
};

export const outcomeWords: Record<string, { text: string; state: string }> = {
  "signed-in": { text: "signed in", state: "sound" },
  refused: { text: "refused", state: "broken" },
  open: { text: "not finished", state: "attention" },
  waiting: { text: "answered; its tokens are not fetched yet", state: "attention" },
  "not-taken-up": { text: "not taken up", state: "broken" },
  stopped: { text: "stopped at the gate", state: "sound" },
  "signed-out": { text: "signed out", state: "sound" },
};

/** "in 23 days", "4 min ago". */
export function relative(date: Date, now = new Date()): string {
  const seconds = (date.getTime() - now.getTime()) / 1000;
  const size = Math.abs(seconds);
  const say = (n: number, unit: string) => {
    const text = `${n} ${unit}${n === 1 || unit === "min" ? "" : "s"}`;
    return seconds > 0 ? `in ${text}` : `${text} ago`;
  };
  if (size < 45) return seconds > 0 ? "in a moment" : "just now";
  if (size < 3600) return say(Math.max(1, Math.round(size / 60)), "min");
  if (size < 86400) return say(Math.round(size / 3600), "hour");
  if (size < 2 * 365 * 86400) return say(Math.round(size / 86400), "day");
  return say(Math.round(size / (365.25 * 86400)), "year");
}

/** Milliseconds for people: "8 ms", "2.4 s". */
export function duration(micros: number): string {
  const ms = micros / 1000;
  if (ms < 10) return `${ms.toFixed(1)} ms`;
  if (ms < 1000) return `${Math.round(ms)} ms`;
  return `${(ms / 1000).toFixed(1)} s`;
}

/** A step of a mapping rule, as people read it. */
export function stepText(step: unknown): string {
  if (typeof step === "string") return step;
  const [word, arg] = Object.entries(step as Record<string, unknown>)[0] ?? ["", ""];
  if (Array.isArray(arg)) return `${word} ${arg.join(" → ")}`;
  if (arg && typeof arg === "object") return `${word} ${Object.keys(arg).length}`;
  return `${word} ${String(arg)}`;
}

/** Values in one line: the first ones, and how many more there are. */
export const few = (v?: string[], most = 6) =>
  (v ?? []).length > most
    ? `${v!.slice(0, most).join(", ")} and ${v!.length - most} more`
    : (v ?? []).join(", ") || "–";
