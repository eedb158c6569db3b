import { flushPromises, mount } from "@vue/test-utils";
import { describe, expect, it, vi } from "vitest";
import { defineComponent, h, ref } from "vue";
import { ApiError } from "../api/client";
import { useEdits, type Edits } from "../composables/edits";
import DraftField from "./DraftField.vue";
import SaveBar from "./SaveBar.vue";
import StepChips from "./StepChips.vue";

type Config = { name?: string; oidc: { redirectUris?: string[]; native?: boolean } };

/** A page with one draft, its fields, and its bar. */
function page(refuse?: ApiError) {
  const held = ref<Config>({ name: "Crew Rota", oidc: { redirectUris: ["https://a"] } });
  let edits: Edits<Config> | undefined;
  const wrapper = mount(
    defineComponent({
      setup() {
        edits = useEdits<Config>({
          held: () => JSON.parse(JSON.stringify(held.value)) as Config,
          again: async () => {},
          readonly: () => false,
          save: async (config) => {
            if (refuse) throw refuse;
            held.value = config;
          },
        });
        return () => [
          h(DraftField, { path: "name", label: "Name", plain: true }),
          h(DraftField, { path: "oidc.redirectUris", label: "Redirect URIs", as: "list" }),
          h(DraftField, { path: "oidc.native", label: "Native", as: "check" }),
          h(SaveBar, { edits: edits as unknown as Edits<object> }),
        ];
      },
    }),
    { attachTo: document.body },
  );
  return { wrapper, held, edits: edits! };
}
const press = async (wrapper: ReturnType<typeof page>["wrapper"], text: string) => {
  await wrapper
    .findAll("button")
    .find((b) => b.text() === text)!
    .trigger("click");
  await flushPromises();
};

describe("a field of the page's draft", () => {
  it("shows what is held, and changes the draft alone until it is saved", async () => {
    const { wrapper, held, edits } = page();
    const name = wrapper.find("input");
    expect(name.element.value).toBe("Crew Rota");
    expect(wrapper.find(".save-bar").exists()).toBe(false);
    await name.setValue("Crew Rota 2");
    expect([held.value.name, edits.draft.value.name]).toEqual(["Crew Rota", "Crew Rota 2"]);
    expect(wrapper.find(".save-bar").text()).toContain("1 value changed, not saved yet");
    await press(wrapper, "What changes");
    expect(wrapper.find(".changes").text()).toContain("name");
    await press(wrapper, "Save");
    expect(held.value.name).toBe("Crew Rota 2");
    await press(wrapper, "Take it back");
    expect(held.value.name).toBe("Crew Rota");
    wrapper.unmount();
  });
  it("takes a list that was copied as lines, each once", async () => {
    const { wrapper, edits } = page();
    const field = wrapper.find(".el-input-tag input");
    const clipboardData = { getData: () => "https://a\nhttps://b, https://c" };
    field.element.dispatchEvent(
      Object.assign(new Event("paste", { bubbles: true, cancelable: true }), { clipboardData }),
    );
    expect(edits.draft.value.oidc.redirectUris).toEqual(["https://a", "https://b", "https://c"]);
    await press(wrapper, "Throw it away").catch(() => undefined);
    wrapper.unmount();
  });
  it("says at its place what the service says of it", async () => {
    const fields = [{ field: "oidc.redirectUris[0]", message: "It is no address." }];
    const { wrapper } = page(new ApiError({ type: "about:blank", title: "No", status: 422, code: "invalid", fields }));
    await wrapper.find("input").setValue("Other");
    await press(wrapper, "Save");
    await vi.waitFor(() => expect(wrapper.find(".el-form-item__error").text()).toBe("It is no address."));
    wrapper.unmount();
  });
});

describe("the steps of a rule", () => {
  const chips = (steps: unknown[]) => {
    const held = ref(steps);
    const wrapper = mount(
      () =>
        h(StepChips, {
          modelValue: held.value,
          of: "rule 1",
          "onUpdate:modelValue": (v: unknown[]) => (held.value = v),
        }),
      { attachTo: document.body },
    );
    return { wrapper, held };
  };
  it("move with Alt and an arrow, and go with Delete", async () => {
    const { wrapper, held } = chips(["lower", { keep: "^a" }]);
    const first = () => wrapper.findAll(".chip button")[0]!;
    await first().trigger("keydown", { key: "ArrowRight", altKey: true });
    expect(held.value).toEqual([{ keep: "^a" }, "lower"]);
    await first().trigger("keydown", { key: "Delete" });
    expect(held.value).toEqual(["lower"]);
    wrapper.unmount();
  });
  it("say what they are to whoever can't see them", () => {
    const { wrapper } = chips([{ limit: 3 }]);
    expect(wrapper.find(".chip button").attributes("aria-label")).toBe("Step 1 of rule 1: limit 3");
    wrapper.unmount();
  });
});
