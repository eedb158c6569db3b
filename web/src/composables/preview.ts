import { ref, watch } from "vue";
import { http, ok, type Preview, type Previewed } from "../api/client";
import { words } from "./load";

export type PreviewBy = "none" | "trace" | "person" | "profile" | "sample";

/**
 * What a draft would make of a sample: the newest real sign-in to begin with, or what somebody chose. It is asked again
 * whenever the draft or the sample changes, and once it rests.
 */
export function usePreview(o: {
  ask: () => Preview;
  /** What the answer depends on beside the sample. */
  draft: () => unknown;
  trace: () => string | undefined;
  pause?: number;
}) {
  const by = ref<PreviewBy>(o.trace() ? "trace" : "none");
  const trace = ref(o.trace() ?? "");
  const sample = ref("");
  const person = ref("");
  const got = ref<Previewed | null>(null);
  const error = ref("");
  const busy = ref(false);

  // The newest sign-in may come to be known only now; what somebody chose meanwhile is theirs.
  watch(o.trace, (newest) => {
    if (!newest || by.value !== "none" || sample.value || person.value) return;
    by.value = "trace";
    trace.value = newest;
  });

  const input = () => {
    if (by.value === "trace" && trace.value.trim()) return { trace: trace.value.trim() };
    if (by.value === "person" && person.value) return { person: person.value };
    if ((by.value === "profile" || by.value === "sample") && sample.value.trim())
      return { sample: sample.value, asProfile: by.value === "profile" || undefined };
    return null;
  };

  let turn = 0;
  async function run() {
    const what = input();
    const mine = ++turn;
    if (!what) {
      [got.value, error.value] = [null, ""];
      return;
    }
    busy.value = true;
    try {
      const answer = await ok(http.POST("/preview", { body: { ...o.ask(), ...what } }));
      if (mine === turn) [got.value, error.value] = [answer, ""];
    } catch (e) {
      if (mine === turn) error.value = words(e);
    } finally {
      if (mine === turn) busy.value = false;
    }
  }
  let timer: ReturnType<typeof setTimeout> | undefined;
  watch(
    () => JSON.stringify([input(), o.draft()]),
    () => {
      clearTimeout(timer);
      timer = setTimeout(run, o.pause ?? 250);
    },
    { immediate: true },
  );
  return { by, trace, sample, person, got, error, busy };
}
