import type { Account } from "../api/client";

/** How accounts stand, in words. */
export const stateWords: Record<string, string> = {
  step: "In step",
  approval: "Waiting for approval",
  due: "To be sent",
  failed: "Failed",
  drifted: "Changed there",
  foreign: "Not ours",
  ignored: "Left alone",
};

/** What is to be sent, in words. */
const wouldWords: Record<string, string> = {
  create: "is to be made",
  change: "is to be changed",
  deactivate: "is to be deactivated",
  delete: "is to be deleted",
};

/** Whether the application changed an account by itself. */
export const changedThere = (a: Account) => a.state === "step" && !!a.drift?.length;

/** How one account stands. */
export const stateOf = (a: Account) => (changedThere(a) ? stateWords.drifted! : (stateWords[a.state] ?? a.state));

/** The color of a state. */
export const tagOf = (a: Account) =>
  a.state === "failed"
    ? "broken"
    : a.state === "approval" || a.state === "due" || changedThere(a)
      ? "attention"
      : a.state === "step"
        ? "sound"
        : "";

/** Why an account stands as it does, and what is to be sent, in sentences. */
export function remarksOf(a: Account): string[] {
  const out: string[] = [];
  if (a.reason) out.push(a.reason);
  else if (a.state !== "step" && a.would) out.push(`It ${wouldWords[a.would] ?? a.would}.`);
  if (changedThere(a))
    for (const d of a.drift!) out.push(`${d.path} is “${d.theirs}” there, and should be “${d.ours}”.`);
  else if (a.drift?.length) out.push(`It would be given ${a.drift.map((d) => d.path).join(", ")}.`);
  if (a.unkept?.length) out.push(`The application does not keep ${a.unkept.join(", ")}.`);
  if (a.accepted?.length) out.push(`Left to the application: ${a.accepted.join(", ")}.`);
  return out;
}

/** What makes sense to do with an account. */
export function actsOf(a: Account): [act: string, words: string][] {
  const out: [string, string][] = [];
  if (a.state === "approval") out.push(["approve", a.would === "change" ? "Adopt" : "Approve"]);
  if (a.state === "failed") out.push(["retry", "Try again"]);
  if (changedThere(a)) out.push(["correct", "Set right"], ["accept", "Accept"]);
  if (a.state === "ignored" && a.kind !== "foreign") out.push(["keep", "Keep again"]);
  else if (a.state !== "ignored" && !changedThere(a)) out.push(["leave", "Leave alone"]);
  return out;
}
