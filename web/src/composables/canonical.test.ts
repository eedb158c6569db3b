import { describe, expect, it } from "vitest";
import { alike, canonical, differences, putAt, valueAt } from "./canonical";

describe("configurations that say the same", () => {
  it.each([
    [{ a: 1, b: "" }, { a: 1 }],
    [{ a: { b: undefined, c: [] } }, {}],
    [{ native: false }, {}],
    [
      { b: 1, a: 2 },
      { a: 2, b: 1 },
    ],
  ])("%j and %j", (a, b) => expect(alike(a, b)).toBe(true));
  it.each([
    [{ a: ["x", "y"] }, { a: ["y", "x"] }],
    [{ a: true }, {}],
    [{ a: 0 }, {}],
  ])("not %j and %j", (a, b) => expect(alike(a, b)).toBe(false));
  it("keep the places of a list", () => expect(canonical([{ a: "" }, { a: "x" }])).toEqual([null, { a: "x" }]));
});

describe("what differs", () => {
  it("is named by its path, with both values", () => {
    expect(
      differences(
        { name: "Crew Rota", saml: { acs: [{ location: "https://a" }], sign: "both" } },
        { name: "Crew Rota", saml: { acs: [{ location: "https://b" }] }, providers: ["a", "b"] },
      ),
    ).toEqual([
      { field: "saml.acs[0].location", before: "https://a", after: "https://b" },
      { field: "saml.sign", before: "both", after: "" },
      { field: "providers", before: "", after: "a\nb" },
    ]);
  });
});

describe("a value at a path", () => {
  it("is found in parts and lists", () => {
    const held = { saml: { acs: [{ location: "https://a" }] } };
    expect(valueAt(held, "saml.acs[0].location")).toBe("https://a");
    expect(valueAt(held, "oidc.issuer")).toBeUndefined();
  });
  it("is put there, and what says nothing is left out, with what held it alone", () => {
    const held: Record<string, unknown> = { saml: {}, session: { idleMinutes: 5 } };
    putAt(held, "saml.metadata.url", "https://m");
    expect(held).toEqual({ saml: { metadata: { url: "https://m" } }, session: { idleMinutes: 5 } });
    putAt(held, "saml.metadata.url", "");
    putAt(held, "session.idleMinutes", undefined);
    expect(held).toEqual({ saml: {} });
  });
  it("stays false where it was true", () => {
    const held = { oidc: { refresh: true } as Record<string, unknown> };
    putAt(held, "oidc.refresh", false);
    putAt(held, "oidc.native", false);
    expect(held).toEqual({ oidc: { refresh: false } });
  });
});
