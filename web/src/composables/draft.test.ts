import { describe, expect, it } from "vitest";
import { nextTick, ref } from "vue";
import { useDraft } from "./draft";

describe("a draft beside other forms", () => {
  const held = () =>
    ref({ name: "Crew Rota", startUrl: "a", saml: { sign: "assertion", entityId: "x" } as Record<string, unknown> });
  const copy = <T>(v: T): T => JSON.parse(JSON.stringify(v));
  it("keeps what was typed when another form is saved", async () => {
    const h = held();
    const { draft, merged } = useDraft(() => copy(h.value));
    draft.value.startUrl = "typed";
    draft.value.saml.sign = "both";
    h.value = {
      ...copy(h.value),
      name: "Renamed elsewhere",
      saml: { sign: "assertion", entityId: "changed elsewhere" },
    };
    await nextTick();
    expect(draft.value).toEqual({
      name: "Renamed elsewhere",
      startUrl: "typed",
      saml: { sign: "both", entityId: "changed elsewhere" },
    });
    expect(merged(copy(h.value))).toEqual(draft.value);
  });
  it("keeps two forms of a guarded application apart", async () => {
    const h = ref({ kind: "guarded", guarded: { publicUrl: "https://a", keepHost: false, paths: [] as string[] } });
    const values = useDraft(() => copy(h.value));
    const options = useDraft(() => copy(h.value));
    options.draft.value.guarded.paths.push("/archive");
    values.draft.value.guarded.publicUrl = "https://b";
    h.value = values.merged(copy(h.value));
    await nextTick();
    expect(options.draft.value.guarded.publicUrl).toBe("https://b");
    expect(options.merged(copy(h.value)).guarded).toEqual({
      publicUrl: "https://b",
      keepHost: false,
      paths: ["/archive"],
    });
  });
  it("follows what is held where nothing was typed", async () => {
    const h = held();
    const { draft } = useDraft(() => copy(h.value));
    h.value = { ...copy(h.value), name: "New" };
    await nextTick();
    expect(draft.value.name).toBe("New");
  });
});
