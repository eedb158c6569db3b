import { describe, expect, it } from "vitest";
import type { Finding } from "../api/client";
import { againstLastWeek, endingLines, foundLines, moveLines, placeOf, proposalLines, refusedLine } from "./waiting";

const now = Date.parse("2026-11-29T12:00:00Z");

const found = (severity: string, title: string) =>
  ({
    severity,
    title,
    detail: "",
    code: title,
    station: "access",
    kind: "application",
    slug: "rota",
    name: "Rota",
  }) as unknown as Finding;

describe("what needs somebody", () => {
  it("names the first of many that have the same", () => {
    const many = Array.from({ length: 40 }, (_, i) => ({ ...found("attention", "x"), slug: `a${i}` }));
    const lines = foundLines([...many, found("broken", "a")]);
    expect(lines.length).toBe(4);
    expect(lines[3]).toMatchObject({ title: expect.stringMatching(/^More of the same: /), to: "/checkup?code=x" });
  });
  it("begins with what is broken", () => {
    const lines = foundLines([found("remark", "c"), found("broken", "a"), found("attention", "b")]);
    expect(lines.map((l) => l.title)).toEqual(["Rota: a", "Rota: b", "Rota: c"]);
    expect(lines.map((l) => l.state)).toEqual(["broken", "attention", ""]);
    expect(lines[0]!.to).toBe("/applications/rota?station=access");
  });
  it("leads to where each is dealt with", () => {
    expect(placeOf({ kind: "key" })).toBe("/keyring");
    expect(placeOf({ kind: "source", slug: "harbours" })).toBe("/sources/harbours");
    expect(placeOf({ kind: "provider", slug: "staff", station: "matching" })).toBe("/providers/staff?station=matching");
  });
  it("names certificates within 60 days, the one that ends first on top", () => {
    const ends = (name: string, days: number) => ({
      owner: { name },
      use: "signing",
      notAfter: new Date(now + days * 86400e3 + 3600e3).toISOString(),
    });
    const lines = endingLines([ends("later", 90), ends("soon", 59), ends("tomorrow", 1), ends("over", -3)], now);
    expect(lines.map((l) => [l.title, l.word, l.state])).toEqual([
      ["over: certificate for signing", "ended", "broken"],
      ["tomorrow: certificate for signing", "1 day", "attention"],
      ["soon: certificate for signing", "59 days", "attention"],
    ]);
  });
  it("has proposals, and moves that go on", () => {
    expect(proposalLines([{ id: "7", name: "Crew Rota", by: "Fenna" }])[0]).toMatchObject({
      title: "Crew Rota: a change is proposed",
      text: "by Fenna",
      to: "/proposals/7",
    });
    const move = (state: string) => ({ name: state, slug: state, state, moved: 1, applications: 3 });
    expect(moveLines([move("open"), move("ended")]).map((l) => l.title)).toEqual(["open"]);
  });
});

describe("refusals", () => {
  it("are worth a line where they are twice the usual share, and more than a few", () => {
    expect(refusedLine(null)).toEqual([]);
    expect(refusedLine({})).toEqual([]);
    expect(refusedLine({ refused: 50, rateNow: 0.01, rateUsual: 0 })).toEqual([]);
    expect(refusedLine({ refused: 50, rateNow: 0.1, rateUsual: 0.06 })).toEqual([]);
    expect(refusedLine({ refused: 50, rateNow: 0.1, rateUsual: 0.04 })[0]!.title).toBe(
      "10.0 % of the last day's sign-ins were refused",
    );
    expect(refusedLine({ refused: 50, rateNow: 0.1 })).toHaveLength(1);
    expect(refusedLine({ refused: 1, rateNow: 1 })).toEqual([]);
  });
  it("of this week stand against last week's", () => {
    const days = Array.from({ length: 15 }, (_, i) => ({ refused: i }));
    expect(againstLastWeek(days)).toEqual({ now: 8 + 9 + 10 + 11 + 12 + 13 + 14, before: 1 + 2 + 3 + 4 + 5 + 6 + 7 });
    expect(againstLastWeek([{ refused: 2 }])).toEqual({ now: 2, before: 0 });
  });
});
