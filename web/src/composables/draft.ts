import { ref, watch, type Ref } from "vue";
import { useUnsaved } from "./unsaved";

const parts = ["saml", "oidc", "guarded", "directory"] as const;
type Config = Partial<Record<(typeof parts)[number], Record<string, unknown>>>;
const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

/**
 * A draft of a configuration that several forms on one page change. What was typed into this form stays when another
 * form is saved, and saving sends only what was changed here, on top of what is held by then.
 */
export function useDraft<T extends object>(current: () => T) {
  let base = current();
  const draft = ref(current()) as Ref<T>;
  useUnsaved(() => !same(draft.value, base));
  watch(current, (now) => {
    if (same(draft.value, base)) draft.value = now;
    else draft.value = overlay(now);
    base = current();
  });

  function overlay(onto: T): T {
    const out = onto as Record<string, unknown> & Config;
    const mine = draft.value as Record<string, unknown> & Config;
    const was = base as Record<string, unknown> & Config;
    for (const key of Object.keys(mine))
      if (!(parts as readonly string[]).includes(key) && !same(mine[key], was[key])) out[key] = mine[key];
    for (const part of parts)
      for (const key of new Set([...Object.keys(mine[part] ?? {}), ...Object.keys(was[part] ?? {})]))
        if (!same(mine[part]?.[key], was[part]?.[key])) (out[part] ??= {})[key] = mine[part]?.[key];
    return out as unknown as T;
  }
  return { draft, merged: (held: T) => overlay(held) };
}
