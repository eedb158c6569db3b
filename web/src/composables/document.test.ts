import { describe, expect, it } from "vitest";
import { docLines, hits, seen, unlike } from "./document";

const message = `<Response>
  <Issuer>https://staff.example</Issuer>
  <Assertion>
    <Subject>
      mvoss
    </Subject>
  </Assertion>
</Response>`;

describe("a message as lines", () => {
  const lines = docLines(message);
  it("knows what stands within what", () => {
    expect(lines.map((l) => l.until)).toEqual([7, undefined, 6, 5, undefined, undefined, undefined, undefined]);
  });
  it("folds a part away, and what is within it", () => {
    expect(seen(lines, new Set([3])).map((l) => l.number)).toEqual([1, 2, 3, 7, 8]);
    expect(seen(lines, new Set([1, 4])).map((l) => l.number)).toEqual([1, 8]);
    expect(seen(lines, new Set()).length).toBe(8);
  });
  it("finds a text whatever its case", () => {
    expect(hits(lines, "SUBJECT")).toEqual([4, 6]);
    expect(hits(lines, "  ")).toEqual([]);
  });
  it("marks what another message doesn't have", () => {
    expect([...unlike(lines, message.replace("mvoss", "lquill"))]).toEqual([5]);
  });
  it("takes one line for one line", () =>
    expect(docLines("eyJhbGciOi")).toEqual([{ number: 1, text: "eyJhbGciOi", depth: 0 }]));
});
