import { describe, expect, it } from "vitest";
import { useChosen, useMany } from "./chosen";

const rows = ["a", "b", "c"].map((slug) => ({ slug, name: slug.toUpperCase() }));

describe("rows that are chosen", () => {
  it("stay chosen by their key while the list is another one", () => {
    const chosen = useChosen<{ slug: string }>((r) => r.slug);
    chosen.toggle(rows[0]!, true);
    expect([chosen.has({ slug: "a" }), chosen.has({ slug: "b" }), chosen.count.value]).toEqual([true, false, 1]);
    chosen.all(rows, true);
    expect([chosen.every(rows), chosen.count.value, chosen.every([])]).toEqual([true, 3, false]);
    chosen.toggle(rows[1]!, false);
    expect(chosen.every(rows)).toBe(false);
    chosen.clear();
    expect(chosen.count.value).toBe(0);
  });
});

describe("something done to many", () => {
  it("goes on when one fails, and names it", async () => {
    const many = useMany();
    const well = await many.run(
      rows,
      (r) => r.name,
      async (r) => {
        if (r.slug === "b") throw new Error("It is not allowed.");
      },
    );
    expect(well.map((r) => r.slug)).toEqual(["a", "c"]);
    expect(many.failed.value).toEqual([{ name: "B", why: "It is not allowed." }]);
    expect([many.done.value, many.of.value, many.busy.value]).toEqual([3, 3, false]);
  });
  it("stops where somebody says so", async () => {
    const many = useMany();
    const well = await many.run(
      rows,
      (r) => r.name,
      async () => void many.stop(),
    );
    expect(well.length).toBe(1);
  });
});
