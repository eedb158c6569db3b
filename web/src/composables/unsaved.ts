import { onScopeDispose } from "vue";

// The forms of the page that say whether they hold what is not saved.
const forms = new Set<() => boolean>();

/** Has leaving the page asked about while the form holds what is not saved. */
export function useUnsaved(holds: () => boolean) {
  forms.add(holds);
  onScopeDispose(() => forms.delete(holds), true);
}

/** Whether a form of the page holds what is not saved. */
export const unsaved = () => [...forms].some((holds) => holds());

/** Whether a change of address leaves what forms hold: another page, or another station of the same one. */
export const leaves = (
  to: { path: string; query: Record<string, unknown> },
  from: { path: string; query: Record<string, unknown> },
) => to.path !== from.path || to.query.station !== from.query.station;
