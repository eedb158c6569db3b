import { describe, expect, it } from "vitest";
import type { PolicyRule } from "../api/client";
import { readRules, ruleWords, writeRules } from "./access";

const rules: PolicyRule[] = [
  {
    name: "night",
    if: { types: ["partner", "guest"], from: "22:00", until: "06:00", zone: "Europe/London" },
    unless: { groups: ["leads"] },
    then: "refuse",
  },
  { if: { networks: ["10.20.0.0/16"], strength: "one" }, then: "stronger" },
  { use: "office-hours" },
  { then: "allow" },
];

describe("access rules in the editor", () => {
  it("come back as they were", () => expect(writeRules(readRules(rules))).toEqual(rules));
  it("read as sentences", () => {
    expect(ruleWords(readRules(rules)[0]!)).toBe(
      "night: refuse whoever is of type partner, guest and between 22:00 - 06:00 Europe/London, unless in leads",
    );
    expect(ruleWords(readRules(rules)[3]!)).toBe("let in everybody");
  });
});
