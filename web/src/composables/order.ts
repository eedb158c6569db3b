import { computed } from "vue";

/**
 * The order of a list that the service sorts, between the address (`name`, `-name`) and the library's table: what the
 * table asks for, and how it is told what holds.
 */
export function useOrder(held: () => string | undefined, set: (value: string) => void) {
  const sort = ({ prop, order }: { prop: string | null; order: string | null }) =>
    set(order && prop ? (order === "descending" ? "-" : "") + prop : "");
  const order = computed(() => ({
    prop: (held() ?? "").replace("-", ""),
    order: held()?.startsWith("-") ? ("descending" as const) : ("ascending" as const),
  }));
  return { sort, order };
}
