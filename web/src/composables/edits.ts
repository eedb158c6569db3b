import {
  computed,
  getCurrentInstance,
  inject,
  onScopeDispose,
  provide,
  ref,
  watch,
  type ComputedRef,
  type InjectionKey,
  type Ref,
} from "vue";
import { ApiError, type Problem } from "../api/client";
import { alike, canonical, differences, type FieldChange } from "./canonical";
import { words } from "./load";
import type { Offer } from "./offer";
import { useUnsaved } from "./unsaved";

const copy = <T>(value: T): T => JSON.parse(JSON.stringify(value)) as T;

type Config = Record<string, unknown>;
const parts = ["saml", "oidc", "guarded", "directory", "ldap", "kerberos", "matching"];

/** What was changed of a configuration from one state to another, put onto a third: field by field, and within its parts. */
export function rebase<T extends object>(from: T, to: T, onto: T): T {
  const was = from as Config;
  const is = to as Config;
  const out = copy(onto) as Config;
  const lay = (was: Config, is: Config, out: Config, within: boolean) => {
    for (const key of new Set([...Object.keys(was), ...Object.keys(is)])) {
      if (alike(was[key], is[key])) continue;
      if (!within && parts.includes(key)) {
        const part = (out[key] ?? {}) as Config;
        lay((was[key] ?? {}) as Config, (is[key] ?? {}) as Config, part, true);
        out[key] = part;
      } else if (is[key] === undefined) delete out[key];
      else out[key] = copy(is[key]);
    }
  };
  lay(was, is, out, false);
  return out as T;
}

export type Edits<T> = {
  /** What the forms of the page show and change. */
  draft: Ref<T>;
  readonly: ComputedRef<boolean>;
  /** Whether the draft says something else than what is held. */
  dirty: ComputedRef<boolean>;
  changes: ComputedRef<FieldChange[]>;
  /** Whether changes are kept while they are made. */
  goes: ComputedRef<boolean>;
  /** When something was kept last. */
  kept: Ref<Date | null>;
  busy: Ref<boolean>;
  error: Ref<string>;
  offers: Ref<Offer[]>;
  /** What the service said of a field, or of one below it. */
  problemAt: (path: string) => string;
  /** Asks something before each saving; false stops it. */
  ask: (question: () => Promise<boolean>) => void;
  save: () => Promise<boolean>;
  drop: () => void;
  /** Puts back what was held before the last saving. */
  takeBack: () => Promise<boolean>;
  mayTakeBack: ComputedRef<boolean>;
};

/** Whether a field is one of those below a path: saml.acs[0].location is below saml.acs, samlish is not below saml. */
const below = (field: string, path: string) => field.startsWith(path) && /^[.[]/.test(field.slice(path.length));

const key: InjectionKey<Edits<object>> = Symbol("edits");

type Options<T> = {
  /** The configuration that is held, a copy of its own at each call. */
  held: () => T;
  save: (config: T) => Promise<void>;
  /** Reads what is held anew, after somebody else changed it. */
  again: () => Promise<void>;
  readonly: () => boolean;
  /** Whether changes are kept while they are made, as those of drafts are. */
  goes?: () => boolean;
  pause?: number;
};

/**
 * One draft of a configuration for all forms of a page. Whatever comes meanwhile from elsewhere is laid under what was
 * changed here, and saving sends it all at once.
 */
export function useEdits<T extends object>(o: Options<T>): Edits<T> {
  let base = o.held();
  const draft = ref(copy(base)) as Ref<T>;
  const held = ref(base) as Ref<T>;
  const before = ref(null) as Ref<{ was: T; is: T } | null>;
  const busy = ref(false);
  const error = ref("");
  const problem = ref<Problem | null>(null);
  const kept = ref<Date | null>(null);
  let refused: T | null = null;
  const questions: (() => Promise<boolean>)[] = [];
  const readonly = computed(o.readonly);
  const goes = computed(() => !!o.goes?.() && !o.readonly());
  const dirty = computed(() => !readonly.value && !alike(draft.value, held.value));
  const changes = computed(() => differences(held.value, draft.value));

  function lay(from: T, now: T) {
    const next = rebase(from, draft.value, now) as Config;
    const mine = draft.value as Config;
    // What says the same stays the very same object: forms over it have nothing to read anew.
    for (const key of Object.keys(next)) if (key in mine && alike(mine[key], next[key])) next[key] = mine[key];
    draft.value = next as T;
    held.value = base = now;
  }
  watch(
    () => JSON.stringify(o.held()),
    () => !busy.value && lay(base, o.held()),
  );

  async function run(send: T, then: () => void): Promise<boolean> {
    busy.value = true;
    [error.value, problem.value] = ["", null];
    try {
      await o.save(send);
      lay(send, o.held());
      kept.value = new Date();
      refused = null;
      then();
      return true;
    } catch (e) {
      error.value = words(e);
      problem.value = e instanceof ApiError ? e.problem : null;
      refused = problem.value?.meanwhile ? null : send;
      if (problem.value?.meanwhile) {
        await o.again();
        lay(base, o.held());
      }
      return false;
    } finally {
      busy.value = false;
    }
  }
  async function save() {
    if (busy.value || !dirty.value) return !dirty.value;
    try {
      for (const question of questions) if (!(await question())) return false;
    } catch (e) {
      error.value = words(e);
      return false;
    }
    const [was, send] = [copy(base), copy(draft.value)];
    return run(send, () => (before.value = { was, is: copy(base) }));
  }
  async function takeBack() {
    const { was, is } = before.value!;
    return run(rebase(is, was, base), () => (before.value = null));
  }
  function drop() {
    draft.value = copy(base);
    [error.value, problem.value] = ["", null];
  }

  let timer: ReturnType<typeof setTimeout> | undefined;
  /** Keeps what rests for a moment. What was refused is not sent again until it is something else. */
  function rest() {
    clearTimeout(timer);
    if (goes.value && dirty.value && !busy.value && !alike(draft.value, refused))
      timer = setTimeout(save, o.pause ?? 600);
  }
  watch([draft, goes, busy], rest, { deep: true });
  onScopeDispose(() => clearTimeout(timer));
  useUnsaved(
    () => dirty.value,
    () => (goes.value ? save() : Promise.resolve(false)),
  );

  const fields = computed(() => problem.value?.fields ?? []);
  const edits: Edits<T> = {
    draft,
    readonly,
    dirty,
    changes,
    goes,
    kept,
    busy,
    error,
    offers: computed(() => fields.value.flatMap((f) => f.offer ?? [])),
    problemAt: (path) => fields.value.find((f) => f.field === path || below(f.field, path))?.message ?? "",
    ask: (question) => {
      questions.push(question);
      onScopeDispose(() => questions.splice(questions.indexOf(question), 1));
    },
    save,
    drop,
    takeBack,
    mayTakeBack: computed(() => !!before.value && !dirty.value && alike(before.value.is, held.value)),
  };
  if (getCurrentInstance()) provide(key, edits as unknown as Edits<object>);
  return edits;
}

/** The draft of the page that the form stands on. */
export function useEditing<T extends object>(): Edits<T> {
  const edits = inject(key);
  if (!edits) throw new Error("a form needs a page that holds its draft");
  return edits as unknown as Edits<T>;
}

/**
 * Rows of a form over a list of the draft whose entries have another shape. Write puts the list into the draft and
 * returns it; what others change of the list is read anew.
 */
export function useRows<R>(held: () => unknown, read: () => R[], write: (rows: R[]) => unknown) {
  const rows = ref(read()) as Ref<R[]>;
  const text = (list: unknown) => JSON.stringify(canonical(list) ?? null);
  let mine = text(held());
  watch(rows, (now) => (mine = text(write(now))), { deep: true });
  watch(
    () => text(held()),
    (now) => {
      if (now === mine) return;
      mine = now;
      rows.value = read();
    },
  );
  return rows;
}
