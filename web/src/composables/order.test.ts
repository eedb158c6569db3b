import { describe, expect, it } from "vitest";
import { ref } from "vue";
import { useOrder } from "./order";

describe("the order of a list", () => {
  it("goes from the table's head to the address and back", () => {
    const held = ref<string | undefined>();
    const { sort, order } = useOrder(
      () => held.value,
      (v) => (held.value = v || undefined),
    );
    sort({ prop: "name", order: "descending" });
    expect(held.value).toBe("-name");
    expect(order.value).toEqual({ prop: "name", order: "descending" });
    sort({ prop: "reach", order: "ascending" });
    expect(order.value).toEqual({ prop: "reach", order: "ascending" });
    sort({ prop: "reach", order: null });
    expect(held.value).toBeUndefined();
  });
});
