import { describe, expect, it } from "vitest";
import type { Previewed, Rule } from "../api/client";
import { madeBy, moved, readRows, writeRows } from "./mapping";

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
    rows[0]!.steps = [{ split: "," }, { limit: 2 }];
    expect(writeRows(rows)).toEqual([{ set: "a", value: "x, y", steps: [{ split: "," }, { limit: 2 }] }]);
  });
  it("move a rule to another place, and no farther than the ends", () => {
    expect(moved(["a", "b", "c"], 0, 2)).toEqual(["b", "c", "a"]);
    expect(moved(["a", "b", "c"], 2, 0)).toEqual(["c", "a", "b"]);
    expect(moved(["a", "b"], 0, 9)).toEqual(["b", "a"]);
  });
});

describe("what each rule makes of a sample", () => {
  const attempt = (steps: object[], problems: object[] = []) =>
    ({ in: { attributes: {}, steps, problems } }) as unknown as Previewed;
  const rows = readRows([
    { set: "email", from: "mail" },
    { use: "names" },
    { set: "groups", from: "memberOf" },
    { set: "email", from: "second" },
  ] as Rule[]);
  it("stands beside its rule, also where two set the same name and a rule set stands between", () => {
    const made = madeBy(
      rows,
      attempt([
        { rule: "email", output: ["a@x.example"] },
        { rule: "given_name", output: ["Mira"] },
        { rule: "groups", output: [] },
        { rule: "email", output: ["b@x.example"] },
      ]),
      "in",
    );
    expect(made).toEqual([
      { values: ["a@x.example"], problem: undefined },
      undefined,
      { values: [], problem: undefined },
      { values: ["b@x.example"], problem: undefined },
    ]);
  });
  it("says what is wrong at the rule that it is wrong with", () => {
    const made = madeBy(rows, attempt([], [{ rule: "groups", message: "It makes no value." }]), "in");
    expect(made[2]).toEqual({ values: [], problem: "It makes no value." });
    expect(made[0]).toBeUndefined();
  });
  it("is not known without a sample", () =>
    expect(madeBy(rows, null, "out")).toEqual([undefined, undefined, undefined, undefined]));
});
