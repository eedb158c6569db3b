import { describe, expect, it } from "vitest";
import { effectScope, ref } from "vue";
import { keepAll, leaves, unsaved, useUnsaved } from "./unsaved";

describe("what is not saved", () => {
  it("is known as long as its form is there", () => {
    const dirty = ref(false);
    const scope = effectScope();
    scope.run(() => useUnsaved(() => dirty.value));
    expect(unsaved()).toBe(false);
    dirty.value = true;
    expect(unsaved()).toBe(true);
    scope.stop();
    expect(unsaved()).toBe(false);
  });
  it("is kept first where it can be", async () => {
    const dirty = ref(true);
    const scope = effectScope();
    scope.run(() =>
      useUnsaved(
        () => dirty.value,
        async () => (dirty.value = false),
      ),
    );
    await keepAll();
    expect(unsaved()).toBe(false);
    scope.stop();
  });
  it("is left by another page, not by another station or filter of it", () => {
    const at = (path: string, query = {}) => ({ path, query });
    expect(leaves(at("/a"), at("/b"))).toBe(true);
    expect(leaves(at("/a", { station: "access" }), at("/a", { station: "mapping-out" }))).toBe(false);
    expect(leaves(at("/a", { search: "x" }), at("/a"))).toBe(false);
  });
});
