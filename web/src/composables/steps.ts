import { ref, watch, type Ref } from "vue";

/** A step that is not done yet; false where that is not known yet, undefined where all are done. */
type Next = { id: string } | false | undefined;

/**
 * Which steps of connecting are open: the next one, and what somebody opened. When a step is done, the next one opens as
 * well; nothing closes by itself. On return the page is as it was left.
 */
export function useSteps(slug: Ref<string>, next: () => Next) {
  const open = ref<string[]>([]);
  const name = () => `steps:${slug.value}`;
  const show = (id: string) => {
    if (!open.value.includes(id)) open.value = [...open.value, id];
  };
  const left = () => {
    try {
      return JSON.parse(sessionStorage.getItem(name()) ?? "[]") as string[];
    } catch {
      return [];
    }
  };
  watch(slug, () => (open.value = left()), { immediate: true });
  watch(open, (list) => sessionStorage.setItem(name(), JSON.stringify(list)));
  watch(
    next,
    (step) => {
      if (step) show(step.id);
    },
    { immediate: true },
  );
  return { open, show };
}
