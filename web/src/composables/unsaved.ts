import { onScopeDispose } from "vue";

type Form = { holds: () => boolean; keep?: () => Promise<unknown> };

// The forms of the page that say whether they hold what is not saved.
const forms = new Set<Form>();

/** Has leaving the page asked about while the form holds what is not saved. What keeps as one goes is kept first. */
export function useUnsaved(holds: () => boolean, keep?: () => Promise<unknown>) {
  const form = { holds, keep };
  forms.add(form);
  onScopeDispose(() => forms.delete(form), true);
}

/** Whether a form of the page holds what is not saved. */
export const unsaved = () => [...forms].some((f) => f.holds());

/** Has every form that can keep what it holds do so. */
export const keepAll = () => Promise.all([...forms].map((f) => (f.holds() ? f.keep?.() : undefined)));

/** Whether a change of address leaves what forms hold: all stations of a page share one draft. */
export const leaves = (to: { path: string }, from: { path: string }) => to.path !== from.path;
