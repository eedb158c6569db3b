import { describe, expect, it } from "vitest";
import { effectScope, ref } from "vue";
import { useDraft } from "./draft";
import { leaves, unsaved, useUnsaved } from "./unsaved";

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
  it("is told of by every draft, and no more when it was typed back", () => {
    const scope = effectScope();
    const held = { name: "Crew Rota" };
    const { draft } = scope.run(() => useDraft(() => ({ ...held })))!;
    draft.value.name = "Crew Rot";
    expect(unsaved()).toBe(true);
    draft.value.name = "Crew Rota";
    expect(unsaved()).toBe(false);
    scope.stop();
  });
  it("is left by another page or another station, not by a filter", () => {
    const at = (path: string, query = {}) => ({ path, query });
    expect(leaves(at("/a"), at("/b"))).toBe(true);
    expect(leaves(at("/a", { station: "access" }), at("/a", { station: "mapping-out" }))).toBe(true);
    expect(leaves(at("/a", { station: "access", through: "b" }), at("/a", { station: "access" }))).toBe(false);
    expect(leaves(at("/a", { search: "x" }), at("/a"))).toBe(false);
  });
});
