import type { Trace, TraceEntry } from "../api/client";

/** One line of the passage with time running down. */
export type Line =
  | { kind: "message"; at: number; index: number; entry: TraceEntry; bad: boolean }
  | { kind: "step"; at: number; index: number; step: string; entries: TraceEntry[]; bad: boolean }
  | { kind: "away"; at: number; micros: number }
  | { kind: "not-reached"; step: string };

const steps = ["ask", "route", "send", "receive", "match", "decide", "issue"];

/**
 * Lays a trace out: messages as arrows, what the gate did between them as steps, the person's time at the provider, and
 * the steps that were not reached.
 */
export function lines(trace: Trace): Line[] {
  const out: Line[] = [];
  let open: Extract<Line, { kind: "step" }> | null = null;
  let sent = -1;
  let failed = false;
  trace.entries.forEach((entry, index) => {
    if (entry.message) {
      open = null;
      const behind = ["POST", "GET", "SOAP"].includes(entry.message.binding); // server to server; nobody is away
      if (entry.message.from === "provider" && sent >= 0 && !behind)
        out.push({ kind: "away", at: sent, micros: entry.at - sent });
      sent = entry.message.to === "provider" ? entry.at : -1;
      out.push({ kind: "message", at: entry.at, index, entry, bad: failed });
      return;
    }
    if (!open || open.step !== entry.step) {
      open = { kind: "step", at: entry.at, index, step: entry.step, entries: [], bad: false };
      out.push(open);
    }
    open.entries.push(entry);
    if (entry.failure) open.bad = failed = true;
  });
  if (
    !["signed-in", "waiting", "not-taken-up"].includes(trace.outcome) &&
    trace.flow !== "client" &&
    trace.flow !== "slo"
  ) {
    const seen = trace.entries.map((e) => e.step);
    const last = Math.max(-1, ...seen.map((s) => steps.indexOf(s)));
    for (const step of steps.slice(last + 1)) out.push({ kind: "not-reached", step });
  }
  return out;
}

/** Lines that held, and are one until somebody opens them. */
export type Held = { kind: "held"; from: number; lines: Line[] };

const short = 24;

/**
 * A long passage with what held in its middle taken together: runs of lines that are good and not chosen, but for the
 * first and the last of each run. Runs whose first line is among the opened ones stay as they are.
 */
export function foldHeld(all: Line[], chosen: number, opened: Set<number>): (Line | Held)[] {
  if (all.length <= short) return all;
  const out: (Line | Held)[] = [];
  const good = (l: Line) => (l.kind === "message" || l.kind === "step") && !l.bad && l.index !== chosen;
  for (let i = 0; i < all.length;) {
    let end = i;
    while (end < all.length && good(all[end]!)) end++;
    const run = all.slice(i, end);
    if (run.length > 4 && !opened.has(i)) {
      out.push(run[0]!, { kind: "held", from: i, lines: run.slice(1, -1) }, run.at(-1)!);
    } else out.push(...run);
    if (end < all.length) out.push(all[end]!);
    i = end + 1;
  }
  return out;
}

/** What a step amounts to, in a few words. */
export function summary(entries: TraceEntry[]): string {
  const checks = entries.filter((e) => e.check);
  const bad = checks.filter((e) => !e.check!.ok).length;
  const values = entries.filter((e) => e.value && e.value.output?.length).length;
  const parts: string[] = [];
  if (checks.length)
    parts.push(
      bad
        ? `${checks.length - bad} checks held, ${bad} did not`
        : `${checks.length} check${checks.length > 1 ? "s" : ""} held`,
    );
  if (values) parts.push(`${values} value${values > 1 ? "s" : ""} mapped`);
  for (const e of entries) if (e.decision) parts.push(`${e.decision.about}: ${e.decision.result}`);
  return parts.join(" · ");
}

/** What an entry says, in one line. */
export function said(e?: Partial<TraceEntry> | null): string {
  if (!e) return "–";
  if (e.message) return [e.message.binding, e.message.signature || "not signed"].join(", ");
  if (e.check) return `${e.check.ok ? "held" : "failed"}${e.check.got ? `: ${e.check.got}` : ""}`;
  if (e.value) return e.value.output?.join(", ") || "nothing";
  if (e.decision) return `${e.decision.result}${e.decision.by ? ` (${e.decision.by})` : ""}`;
  return e.failure?.code ?? "–";
}

export const stepWords: Record<string, string> = {
  ask: "what the application asked",
  route: "which provider",
  send: "our request",
  receive: "what the provider answered",
  match: "mapping in, who it is",
  decide: "who gets in",
  issue: "mapping out, our answer",
};
