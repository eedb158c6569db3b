import { describe, expect, it } from "vitest";
import { newStep, partsOf, shapeOf, stepMenu, stepOf, tableOf, tableText } from "./rulesteps";

describe("steps of a rule", () => {
  it("come apart and together", () => {
    for (const { word } of stepMenu) {
      const { arg } = partsOf(newStep(word));
      expect(stepOf(word, arg)).toEqual(newStep(word));
    }
  });
  it("know what they want to know", () => {
    expect(shapeOf("lower")).toBe("none");
    expect(shapeOf({ keep: "^ferry-" })).toBe("pattern");
    expect(shapeOf({ replace: ["a", "b"] })).toBe("pair");
    expect(shapeOf({ translate: { a: "b" } })).toBe("table");
    expect(shapeOf({ unheard: "x" })).toBe("text");
  });
  it("write a table as lines and read it back", () => {
    const table = { deckhands: "crew", "*": "other" };
    expect(tableText(table)).toBe("deckhands → crew\n* → other");
    expect(tableOf(tableText(table))).toEqual(table);
    expect(tableOf("a -> b\n\nc")).toEqual({ a: "b", c: "" });
  });
});
