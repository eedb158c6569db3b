import { beforeEach, describe, expect, it } from "vitest";
import { nextTick, ref } from "vue";
import { useSteps } from "./steps";

describe("the steps of connecting", () => {
  beforeEach(() => sessionStorage.clear());
  it("open with the next one, as soon as it is known", async () => {
    const step = ref<{ id: string } | false | undefined>(false);
    const { open } = useSteps(ref("crew-rota"), () => step.value);
    expect(open.value).toEqual([]);
    step.value = { id: "take" };
    await nextTick();
    expect(open.value).toEqual(["take"]);
  });
  it("open the one after it when a step is done, and close nothing", async () => {
    const step = ref<{ id: string } | undefined>({ id: "take" });
    const { open } = useSteps(ref("crew-rota"), () => step.value);
    step.value = { id: "map" };
    await nextTick();
    expect(open.value).toEqual(["take", "map"]);
    step.value = undefined;
    await nextTick();
    expect(open.value).toEqual(["take", "map"]);
  });
  it("are on return as they were left, for each application by itself", async () => {
    const first = useSteps(ref("crew-rota"), () => undefined);
    first.show("who");
    await nextTick();
    expect(useSteps(ref("crew-rota"), () => undefined).open.value).toEqual(["who"]);
    expect(useSteps(ref("cargo-ledger"), () => undefined).open.value).toEqual([]);
  });
  it("bear what somebody wrote into the browser's store", () => {
    sessionStorage.setItem("steps:crew-rota", "{not json");
    expect(useSteps(ref("crew-rota"), () => ({ id: "take" })).open.value).toEqual(["take"]);
  });
});
