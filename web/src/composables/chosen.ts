import { ElMessage } from "element-plus";
import { computed, ref, shallowRef } from "vue";
import { words } from "./load";

/** Rows of a list that are chosen, by their keys. They stay chosen while the list is searched or goes on. */
export function useChosen<T>(key: (row: T) => string) {
  const rows = shallowRef(new Map<string, T>());
  const put = (change: (m: Map<string, T>) => void) => {
    const next = new Map(rows.value);
    change(next);
    rows.value = next;
  };
  const has = (row: T) => rows.value.has(key(row));
  const toggle = (row: T, on: boolean) => put((m) => (on ? m.set(key(row), row) : m.delete(key(row))));
  const all = (list: T[], on: boolean) => put((m) => list.forEach((r) => (on ? m.set(key(r), r) : m.delete(key(r)))));
  const every = (list: T[]) => list.length > 0 && list.every(has);
  return {
    rows,
    count: computed(() => rows.value.size),
    has,
    toggle,
    all,
    every,
    clear: () => (rows.value = new Map()),
  };
}

export type Failed = { name: string; why: string };

/** Does one thing to many, one after the other; what fails is named, and the rest goes on. */
export function useMany() {
  const done = ref(0);
  const of = ref(0);
  const failed = ref<Failed[]>([]);
  const busy = ref(false);
  let stopped = false;
  async function run<T>(list: T[], name: (row: T) => string, act: (row: T) => Promise<unknown>): Promise<T[]> {
    [done.value, of.value, failed.value, busy.value, stopped] = [0, list.length, [], true, false];
    const well: T[] = [];
    for (const row of list) {
      if (stopped) break;
      try {
        await act(row);
        well.push(row);
      } catch (e) {
        failed.value = [...failed.value, { name: name(row), why: words(e) }];
      }
      done.value++;
    }
    busy.value = false;
    return well;
  }
  /** Says to how many it was done. Those that failed stay chosen. */
  function tell(well: unknown[], words: string, chosen: { clear: () => void }) {
    if (well.length) ElMessage({ type: "success", message: `${well.length} ${words}` });
    if (!failed.value.length) chosen.clear();
  }
  return { done, of, failed, busy, run, tell, stop: () => (stopped = true) };
}
