import { describe, expect, it } from "vitest";
import type { Rule } from "../api/client";
import { readRows, writeRows } from "./mapping";

describe("mappings in a table", () => {
  it("come back as they were", () => {
    const rules = [
      { set: "email", from: ["mail", "email"], steps: ["lower", { before: "@" }], required: true },
      { set: "site", value: "harbour" },
      { set: "name", expr: "given_name + ' ' + family_name" },
      { use: "names" },
      {
        set: "roles",
        from: "groups",
        steps: [{ translate: { deckhands: "crew" } }],
        place: "id_token",
        friendlyName: "roles",
      },
    ] as unknown as Rule[];
    expect(writeRows(readRows(rules))).toEqual(rules);
  });
  it("take new kinds and steps", () => {
    const rows = readRows([{ set: "a", from: "b" } as Rule]);
    rows[0]!.kind = "value";
    rows[0]!.source = "x, y";
    rows[0]!.steps = "split , | limit 2 | replace a → b";
    expect(writeRows(rows)).toEqual([
      { set: "a", value: "x, y", steps: [{ split: "," }, { limit: 2 }, { replace: ["a", "b"] }] },
    ]);
  });
});
