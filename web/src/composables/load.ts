import { onScopeDispose, ref, shallowRef, watch, type Ref, type WatchSource } from "vue";
import { ApiError } from "../api/client";
import type { Offer } from "./offer";

/** Words for an error of any kind. */
export function words(e: unknown): string {
  return e instanceof Error ? e.message : String(e);
}

/**
 * Loads a value, again whenever a source changes. Only the newest answer counts; a busy sign is shown only for what takes
 * longer than a moment.
 */
export function useLoad<T>(load: () => Promise<T>, sources: WatchSource[] = []) {
  const data = shallowRef<T | null>(null) as Ref<T | null>;
  const error = ref("");
  const missing = ref(false);
  const busy = ref(false);
  let turn = 0;
  async function again() {
    const mine = ++turn;
    const timer = setTimeout(() => (busy.value = mine === turn), 120);
    try {
      const got = await load();
      if (mine === turn) [data.value, error.value, missing.value] = [got, "", false];
    } catch (e) {
      if (mine === turn) {
        error.value = words(e);
        missing.value = e instanceof ApiError && e.problem.status === 404;
      }
    } finally {
      clearTimeout(timer);
      if (mine === turn) busy.value = false;
    }
  }
  watch(sources, again, { immediate: true });
  return { data, error, missing, busy, again };
}

/** Calls a function every so often while the component is there and the page is looked at. */
export function useTicker(every: number, tick: () => void) {
  const id = setInterval(() => document.visibilityState === "visible" && tick(), every);
  onScopeDispose(() => clearInterval(id));
}

/** Runs an act, keeping its error beside the button that started it. */
export function useAct() {
  const error = ref("");
  const offers = ref<Offer[]>([]);
  const busy = ref(false);
  async function act(run: () => Promise<void>): Promise<boolean> {
    busy.value = true;
    error.value = "";
    try {
      await run();
      return true;
    } catch (e) {
      error.value = words(e);
      offers.value = e instanceof ApiError ? (e.problem.fields ?? []).flatMap((f) => f.offer ?? []) : [];
      return false;
    } finally {
      busy.value = false;
    }
  }
  return { error, offers, busy, act };
}

/** Runs changes of one object one after the other, each on what the one before left. */
export function useQueue() {
  let last: Promise<unknown> = Promise.resolve();
  return <T>(run: () => Promise<T>): Promise<T> => {
    const mine = last.catch(() => undefined).then(run);
    last = mine;
    return mine;
  };
}
