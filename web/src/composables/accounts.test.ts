import { describe, expect, it } from "vitest";
import type { Account } from "../api/client";
import { actsOf, remarksOf, stateOf, tagOf } from "./accounts";

const account = (more: Partial<Account>): Account =>
  ({ id: "1", kind: "person", name: "Mira", state: "step", wanted: true, updated: "", ...more }) as Account;

describe("accounts", () => {
  it("tells what the application changed from what is in step", () => {
    const a = account({ drift: [{ path: "title", ours: "Purser", theirs: "Clerk" }] });
    expect(stateOf(a)).toBe("Changed there");
    expect(tagOf(a)).toBe("attention");
    expect(remarksOf(a)).toEqual(["title is “Clerk” there, and should be “Purser”."]);
    expect(actsOf(a).map(([act]) => act)).toEqual(["correct", "accept"]);
    expect(stateOf(account({}))).toBe("In step");
    expect(tagOf(account({}))).toBe("sound");
  });
  it("offers what makes sense", () => {
    expect(actsOf(account({ state: "approval", would: "create" }))[0]).toEqual(["approve", "Approve"]);
    expect(actsOf(account({ state: "approval", would: "change" }))[0]).toEqual(["approve", "Adopt"]);
    expect(actsOf(account({ state: "failed" })).map(([act]) => act)).toEqual(["retry", "leave"]);
    expect(actsOf(account({ state: "ignored" }))).toEqual([["keep", "Keep again"]]);
    expect(actsOf(account({ state: "ignored", kind: "foreign" }))).toEqual([]);
  });
  it("says why", () => {
    expect(remarksOf(account({ state: "due", would: "deactivate" }))).toEqual(["It is to be deactivated."]);
    expect(remarksOf(account({ state: "failed", reason: "No.", would: "create" }))).toEqual(["No."]);
    expect(remarksOf(account({ unkept: ["title"], accepted: ["nickName"] }))).toEqual([
      "The application does not keep title.",
      "Left to the application: nickName.",
    ]);
  });
});
