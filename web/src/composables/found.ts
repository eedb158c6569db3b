import { ref, shallowRef, watch } from "vue";
import { http, ok } from "../api/client";

/** What can be found by name. Partners are applications and providers, with the kind before the short name. */
export type Findable = "applications" | "providers" | "groups" | "partners";
type Named = { slug: string; name: string };
const few = 30;

const lists: Record<Findable, (search: string, narrow?: Record<string, string>) => Promise<Named[]>> = {
  applications: async (search, narrow) =>
    (await ok(http.GET("/applications", { params: { query: { search, limit: few, ...narrow } } }))).items,
  providers: async (search) => (await ok(http.GET("/providers", { params: { query: { search, limit: few } } }))).items,
  groups: async (search) => (await ok(http.GET("/groups", { params: { query: { search, limit: few } } }))).items,
  partners: async (search) => {
    const bare = search.replace(/^(applications|providers)\//, "");
    const [apps, providers] = await Promise.all([lists.applications(bare), lists.providers(bare)]);
    const within = (kind: string, all: Named[]) => all.map((o) => ({ slug: `${kind}/${o.slug}`, name: o.name }));
    return [...within("applications", apps), ...within("providers", providers)];
  },
};

/**
 * Objects to choose from, however many there are: the first few to begin with, and those whose name fits what is typed.
 * Names of those chosen before, which may be far down the list, are looked for by their short names.
 */
export function useFound(
  of: () => Findable,
  chosen: () => string[],
  narrow?: () => Record<string, string> | undefined,
) {
  const items = shallowRef<Named[]>([]);
  const busy = ref(false);
  const names = ref(new Map<string, string>());
  const asked = new Set<string>();
  let turn = 0;
  async function find(text: string) {
    const mine = ++turn;
    busy.value = true;
    const got = await lists[of()](text.trim(), narrow?.()).catch(() => []);
    if (mine !== turn) return;
    busy.value = false;
    items.value = got;
    for (const i of got) names.value.set(i.slug, i.name);
  }
  watch(
    chosen,
    async (slugs) => {
      for (const slug of slugs.filter((s) => s && !names.value.has(s) && !asked.has(s))) {
        asked.add(slug);
        const got = await lists[of()](slug).catch(() => []);
        names.value.set(slug, got.find((i) => i.slug === slug)?.name ?? slug);
      }
    },
    { immediate: true },
  );
  return { items, busy, names, find };
}
