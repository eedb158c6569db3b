import { describe, expect, it } from "vitest";
import { circleWords, readCircle, writeCircle } from "./circle";

describe("a circle", () => {
  it("comes back from the form as it was", () => {
    for (const c of [
      {},
      { groups: ["office", "crew"], share: 5 },
      { people: ["mvoss"], networks: ["10.20.0.0/16"], except: { groups: ["quay"] }, instead: "old-staff" },
    ]) {
      expect(JSON.parse(JSON.stringify(writeCircle(readCircle(c))))).toEqual(c);
    }
  });
  it("takes lists as people type them", () => {
    expect(writeCircle({ ...readCircle(), groups: " office,, crew ", share: "" })).toMatchObject({
      groups: ["office", "crew"],
    });
  });
  it("is told in sentences", () => {
    expect(circleWords({ groups: ["office"], share: 10, except: { people: ["mvoss"] } })).toEqual([
      "the groups office",
      "10 percent of all people",
      "but never mvoss",
    ]);
  });
});
