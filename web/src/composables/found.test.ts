import { afterEach, describe, expect, it, vi } from "vitest";
import { effectScope, ref } from "vue";
import { http } from "../api/client";
import { useFound } from "./found";

afterEach(() => vi.restoreAllMocks());
const answer = (items: object[]) => ({ data: { items }, response: new Response(null, { status: 200 }) }) as never;

describe("objects found by name", () => {
  it("are those of the newest search, whichever answer comes last", async () => {
    let late: (value: never) => void = () => undefined;
    const slow = new Promise<never>((done) => (late = done));
    vi.spyOn(http, "GET")
      .mockReturnValueOnce(slow)
      .mockResolvedValueOnce(answer([{ slug: "rota", name: "Crew Rota" }]));
    const found = effectScope().run(() =>
      useFound(
        () => "applications",
        () => [],
      ),
    )!;
    const first = found.find("c");
    await found.find("crew");
    late(answer([{ slug: "cargo", name: "Cargo Ledger" }]));
    await first;
    expect(found.items.value.map((i) => i.slug)).toEqual(["rota"]);
  });
  it("have the names of those chosen before, also where nobody bears the short name any more", async () => {
    vi.spyOn(http, "GET")
      .mockResolvedValueOnce(answer([{ slug: "staff", name: "Saltmere Staff" }]))
      .mockResolvedValueOnce(answer([]));
    const chosen = ref(["staff", "gone"]);
    const found = effectScope().run(() =>
      useFound(
        () => "providers",
        () => chosen.value,
      ),
    )!;
    await vi.waitFor(() => expect(found.names.value.get("gone")).toBe("gone"));
    expect(found.names.value.get("staff")).toBe("Saltmere Staff");
  });
});
