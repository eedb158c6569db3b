import { afterEach, describe, expect, it, vi } from "vitest";
import { effectScope, nextTick, ref, type EffectScope } from "vue";
import { ApiError } from "../api/client";
import { rebase, useEdits, useRows } from "./edits";
import { unsaved } from "./unsaved";

type Config = { name: string; startUrl?: string; saml: Record<string, unknown>; mapping?: object[] };
const copy = <T>(v: T): T => JSON.parse(JSON.stringify(v));
let scope: EffectScope;
afterEach(() => scope.stop());

/** A page over a service that holds one configuration, and may refuse it. */
function page(o: { goes?: boolean; refuse?: () => Error | null; again?: () => void } = {}) {
  const service = ref<Config>({ name: "Crew Rota", saml: { sign: "assertion", entityId: "x" } });
  const sent: Config[] = [];
  scope = effectScope();
  const edits = scope.run(() =>
    useEdits<Config>({
      held: () => copy(service.value),
      again: async () => o.again?.(),
      readonly: () => false,
      goes: () => !!o.goes,
      pause: 5,
      save: async (config) => {
        sent.push(copy(config));
        const refused = o.refuse?.();
        if (refused) throw refused;
        service.value = { ...copy(config), name: config.name.trim() };
      },
    }),
  )!;
  return { service, edits, sent };
}

describe("one draft for all forms of a page", () => {
  it("says what changes, saves it at once, and takes it back", async () => {
    const { service, edits } = page();
    edits.draft.value.name = "Crew Rota 2";
    edits.draft.value.saml.sign = "both";
    expect(edits.changes.value.map((c) => c.field)).toEqual(["name", "saml.sign"]);
    expect(unsaved()).toBe(true);
    expect(await edits.save()).toBe(true);
    expect(service.value.saml.sign).toBe("both");
    expect([edits.dirty.value, unsaved(), edits.mayTakeBack.value]).toEqual([false, false, true]);
    await edits.takeBack();
    expect(service.value).toEqual({ name: "Crew Rota", saml: { sign: "assertion", entityId: "x" } });
    expect(edits.mayTakeBack.value).toBe(false);
  });
  it("is clean again when what was typed is typed back", () => {
    const { edits } = page();
    edits.draft.value.startUrl = "https://a";
    edits.draft.value.startUrl = "";
    expect(edits.dirty.value).toBe(false);
  });
  it("lays what comes from elsewhere under what was changed here", async () => {
    const { service, edits } = page();
    edits.draft.value.startUrl = "typed";
    edits.draft.value.saml.sign = "both";
    service.value = { name: "Renamed elsewhere", saml: { sign: "assertion", entityId: "changed elsewhere" } };
    await nextTick();
    expect(edits.draft.value).toEqual({
      name: "Renamed elsewhere",
      startUrl: "typed",
      saml: { sign: "both", entityId: "changed elsewhere" },
    });
  });
  it("takes back its own change alone when somebody changed something since", async () => {
    const { service, edits } = page();
    edits.draft.value.saml.sign = "both";
    await edits.save();
    service.value = { ...copy(service.value), startUrl: "elsewhere" };
    await nextTick();
    await edits.takeBack();
    expect(service.value).toEqual({
      name: "Crew Rota",
      startUrl: "elsewhere",
      saml: { sign: "assertion", entityId: "x" },
    });
  });
  it("asks before it saves, and leaves everything as it is where the answer is no", async () => {
    const { edits, sent } = page();
    scope.run(() => edits.ask(async () => false));
    edits.draft.value.name = "Other";
    expect(await edits.save()).toBe(false);
    expect([sent.length, edits.draft.value.name]).toEqual([0, "Other"]);
  });
  it("puts what the service says at its field", async () => {
    const problem = {
      type: "about:blank",
      title: "No",
      status: 422,
      code: "invalid",
      fields: [{ field: "saml.acs[1].location", message: "It is no address." }],
    };
    const { edits } = page({ refuse: () => new ApiError(problem) });
    edits.draft.value.name = "Other";
    expect(await edits.save()).toBe(false);
    expect(edits.problemAt("saml.acs")).toBe("It is no address.");
    expect(edits.problemAt("saml.a")).toBe("");
    expect(edits.draft.value.name).toBe("Other");
    edits.drop();
    expect([edits.problemAt("saml.acs"), edits.error.value, edits.dirty.value]).toEqual(["", "", false]);
  });
  it("reads what somebody else changed, and keeps what was changed here on top of it", async () => {
    const meanwhile = { by: "rune", theirs: [], mine: [] };
    const gone = { type: "about:blank", title: "Changed", status: 409, code: "conflict", meanwhile };
    let first = true;
    const { service, edits } = page({
      refuse: () => (first ? ((first = false), new ApiError(gone as never)) : null),
      again: () => (service.value = { ...copy(service.value), startUrl: "theirs" }),
    });
    edits.draft.value.name = "Mine";
    expect(await edits.save()).toBe(false);
    expect(edits.draft.value).toMatchObject({ name: "Mine", startUrl: "theirs" });
    expect(await edits.save()).toBe(true);
    expect(service.value).toMatchObject({ name: "Mine", startUrl: "theirs" });
  });
});

describe("a draft that is kept as one goes", () => {
  it("is sent once it rests, and what the service made of it is shown", async () => {
    const { edits, sent } = page({ goes: true });
    edits.draft.value.name = "Crew";
    edits.draft.value.name = "Crew Two ";
    await vi.waitFor(() => expect(edits.kept.value).not.toBeNull());
    expect(sent.map((c) => c.name)).toEqual(["Crew Two "]);
    expect(edits.draft.value.name).toBe("Crew Two");
    await new Promise((done) => setTimeout(done, 20));
    expect(sent.length).toBe(1);
  });
  it("is not sent again and again where it is refused, but when it is something else", async () => {
    const { edits, sent } = page({ goes: true, refuse: () => new Error("It is not allowed.") });
    edits.draft.value.name = "Bad";
    await vi.waitFor(() => expect(edits.error.value).toBe("It is not allowed."));
    await new Promise((done) => setTimeout(done, 60));
    expect(sent.length).toBe(1);
    edits.draft.value.name = "Worse";
    await vi.waitFor(() => expect(sent.length).toBe(2));
  });
  it("keeps what was typed while it was on its way", async () => {
    const { edits, sent } = page({ goes: true });
    edits.draft.value.name = "One";
    const saving = edits.save();
    edits.draft.value.name = "One and two";
    await saving;
    expect(edits.draft.value.name).toBe("One and two");
    await vi.waitFor(() => expect(sent.at(-1)?.name).toBe("One and two"));
  });
});

describe("changes put onto a third state", () => {
  it("goes into the parts of a configuration, and takes away what was taken away", () => {
    const from = { kind: "guarded", guarded: { publicUrl: "a", paths: ["/x"], keepHost: true } };
    const to = { kind: "guarded", guarded: { publicUrl: "b", paths: ["/x"] } };
    const onto = { kind: "guarded", guarded: { publicUrl: "a", paths: ["/y"], keepHost: true } };
    expect(rebase(from, to, onto)).toEqual({ kind: "guarded", guarded: { publicUrl: "b", paths: ["/y"] } });
  });
});

describe("rows over a list of another shape", () => {
  it("write what changes, and read what others changed", async () => {
    const held = ref<string[]>(["a"]);
    scope = effectScope();
    const rows = scope.run(() =>
      useRows(
        () => held.value,
        () => held.value.map((text) => ({ text })),
        (now) => (held.value = now.map((r) => r.text).filter(Boolean)),
      ),
    )!;
    rows.value.push({ text: "" });
    await nextTick();
    expect([held.value, rows.value.length]).toEqual([["a"], 2]); // an empty row stays while it is typed into
    rows.value[1]!.text = "b";
    await nextTick();
    expect(held.value).toEqual(["a", "b"]);
    held.value = ["c"];
    await nextTick();
    await nextTick();
    expect(rows.value).toEqual([{ text: "c" }]);
  });
});
