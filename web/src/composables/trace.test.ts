import { describe, expect, it } from "vitest";
import type { Trace } from "../api/client";
import { foldHeld, lines, summary, type Line } from "./trace";

const check = (ok: boolean) => ({ name: "saml.audience", text: "Audience", section: "x", ok });
const trace = (outcome: string, entries: unknown[]) =>
  ({
    reference: "7F3K-92QX",
    outcome,
    entries,
    flow: "sp",
    rehearsal: false,
    started: "",
    micros: 0,
    providerMicros: 0,
    application: "",
    provider: "",
  }) as unknown as Trace;

describe("the passage with time running down", () => {
  const refused = trace("refused", [
    {
      at: 0,
      step: "ask",
      message: { from: "application", to: "gate", name: "AuthnRequest", binding: "HTTP-Redirect", size: 1 },
    },
    { at: 1, step: "ask", check: check(true) },
    { at: 2, step: "route", decision: { about: "provider", result: "Saltmere Staff" } },
    {
      at: 9,
      step: "send",
      message: { from: "gate", to: "provider", name: "AuthnRequest", binding: "HTTP-Redirect", size: 1 },
    },
    {
      at: 2140,
      step: "receive",
      message: { from: "provider", to: "gate", name: "Response", binding: "HTTP-POST", size: 1 },
    },
    { at: 2141, step: "receive", check: check(false) },
    { at: 2142, step: "receive", failure: { code: "saml.audience-mismatch" } },
  ]);
  it("shows messages, steps, the person's time and what was not reached", () => {
    expect(
      lines(refused).map((l) => (l.kind === "step" || l.kind === "not-reached" ? `${l.kind} ${l.step}` : l.kind)),
    ).toEqual([
      "message",
      "step ask",
      "step route",
      "message",
      "away",
      "message",
      "step receive",
      "not-reached match",
      "not-reached decide",
      "not-reached issue",
    ]);
  });
  it("marks the step that failed", () => {
    const bad = lines(refused).filter((l) => l.kind === "step" && l.bad);
    expect(bad).toHaveLength(1);
    expect(bad[0]).toMatchObject({ step: "receive" });
  });
  it("measures the time at the provider", () => {
    expect(lines(refused).find((l) => l.kind === "away")).toMatchObject({ micros: 2131 });
  });
  it("has nothing left over in a good sign-in", () => {
    expect(lines(trace("signed-in", refused.entries.slice(0, 2))).some((l) => l.kind === "not-reached")).toBe(false);
  });
  it("sums a step up", () => {
    expect(summary(refused.entries.slice(5))).toBe("0 checks held, 1 did not");
    expect(summary(refused.entries.slice(2, 3))).toBe("provider: Saltmere Staff");
  });
});

describe("a long passage", () => {
  const step = (index: number, bad = false) =>
    ({ kind: "step", at: index, index, step: "issue", entries: [], bad }) as Line;
  const all = Array.from({ length: 30 }, (_, i) => step(i, i === 20));
  it("takes what held together, before and after what did not", () => {
    const folded = foldHeld(all, 20, new Set());
    expect(folded.map((l) => (l.kind === "held" ? l.lines.length : (l as { index: number }).index))).toEqual([
      0, 18, 19, 20, 21, 7, 29,
    ]);
  });
  it("shows what was opened, and what is chosen", () => {
    expect(foldHeld(all, 20, new Set([0, 21])).length).toBe(30);
    expect(foldHeld(all, 10, new Set()).some((l) => l.kind !== "held" && "index" in l && l.index === 10)).toBe(true);
  });
  it("is left alone where it is short", () => expect(foldHeld(all.slice(0, 24), -1, new Set()).length).toBe(24));
});
