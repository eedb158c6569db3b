import { describe, expect, it } from "vitest";
import { duration, relative, shortName } from "./text";

describe("text for people", () => {
  it("says how far away a time is", () => {
    const now = new Date("2026-11-23T09:00:00Z");
    expect(relative(new Date("2026-12-16T09:00:00Z"), now)).toBe("in 23 days");
    expect(relative(new Date("2026-11-23T08:56:00Z"), now)).toBe("4 min ago");
    expect(relative(new Date("2026-11-23T08:59:59Z"), now)).toBe("just now");
    expect(relative(new Date("2026-11-22T08:00:00Z"), now)).toBe("1 day ago");
    expect(relative(new Date("2031-11-22T09:00:00Z"), now)).toBe("in 5 years");
  });
  it("writes durations", () => {
    expect([duration(400), duration(42000), duration(2140000)]).toEqual(["0.4 ms", "42 ms", "2.1 s"]);
  });
  it("shortens standard names only", () => {
    expect(shortName("urn:oasis:names:tc:SAML:2.0:nameid-format:persistent")).toBe("persistent");
    expect(shortName("https://rota.saltmere.example/acs")).toBe("https://rota.saltmere.example/acs");
  });
});
