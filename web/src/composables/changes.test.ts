import { describe, expect, it } from "vitest";
import { inShort, marked, pageOf, toInput } from "./changes";

describe("marked", () => {
  it("marks what differs between two values", () => {
    expect(marked("https://a.example/acs", "https://a.example/acs/")).toMatchObject({
      head: "https://a.example/acs",
      gone: "",
      come: "/",
      tail: "",
    });
    expect(marked("abXcd", "abYcd")).toMatchObject({ head: "ab", gone: "X", come: "Y", tail: "cd" });
  });
  it("does not let both ends overlap", () => {
    expect(marked("aa", "aaa")).toMatchObject({ head: "aa", gone: "", come: "a", tail: "" });
  });
  it("shows a value that came or went whole", () => {
    expect(marked("", "new")).toMatchObject({ before: "", after: "new", tail: "new" });
  });
  it("shortens what is long and alike", () => {
    const m = marked("x".repeat(900) + "A", "x".repeat(900) + "B");
    expect(m.head.length).toBeLessThan(100);
    expect([m.gone, m.come]).toEqual(["A", "B"]);
  });
});

describe("words", () => {
  it("names what a revision changed", () => {
    expect(inShort({ action: "create", changes: [] })).toBe("made");
    expect(inShort({ action: "update", changes: ["a", "b", "c", "d"].map((field) => ({ field })) })).toBe(
      "a, b, c and 1 more",
    );
  });
  it("knows the pages of objects", () => {
    expect(pageOf("application", "crew-rota")).toBe("/applications/crew-rota");
    expect(pageOf("assignment", "crew-rota/office")).toBe("/applications/crew-rota?station=access");
    expect(pageOf("setting", "mail")).toBeUndefined();
  });
  it("writes a local time for an input", () => {
    expect(toInput(new Date(2026, 10, 7, 9, 5))).toBe("2026-11-07T09:05");
  });
});
