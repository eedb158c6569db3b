import { computed, type Ref } from "vue";
import { useRoute } from "vue-router";
import {
  applicationConfig,
  http,
  ok,
  providerConfig,
  type Application,
  type ApplicationConfig,
  type Provider,
  type ProviderConfig,
  type TakeIn,
} from "../api/client";
import { alike } from "./canonical";
import { useProposing } from "./changes";
import { useEdits } from "./edits";
import { useLoad, useQueue } from "./load";
import { useSession } from "./session";
import { sureOfSubject } from "./subject";

type Calls<V, C> = {
  get: (slug: string) => Promise<V>;
  put: (slug: string, revision: number, body: C) => Promise<V>;
  understand: (slug: string, body: TakeIn) => ReturnType<typeof understandApplication>;
  take: (slug: string, body: TakeIn) => Promise<V>;
  config: (held: V) => C;
};
const at = (slug: string) => ({ params: { path: { slug } } });
const understandApplication = (slug: string, body: TakeIn) =>
  ok(http.POST("/applications/{slug}/understand", { ...at(slug), body }));

/** An application or a provider as its pages work on it: what is held, its one draft, and what others send of it. */
function usePartnerPage<V extends { slug: string; reach: string; revision: number }, C extends object>(
  kind: "application" | "provider",
  calls: Calls<V, C>,
  goes: boolean,
) {
  const route = useRoute();
  const session = useSession();
  const slug = computed(() => String(route.params.slug));
  const { data, error, missing, again } = useLoad(() => calls.get(slug.value), [slug]);
  const queue = useQueue();
  const proposals = useProposing(kind, data as unknown as Ref<V | null>);
  const edits = useEdits<C>({
    held: () => (data.value ? calls.config(data.value) : ({} as C)),
    again,
    readonly: () => !session.engineer,
    goes: () => goes && data.value?.reach === "draft",
    save: (config) =>
      queue(async () => {
        if (proposals.proposing.value) return proposals.propose(config);
        data.value = await calls.put(slug.value, data.value!.revision, config);
      }),
  });
  const take = (body: TakeIn) =>
    queue(async () => {
      data.value = await calls.take(slug.value, body);
    });
  return {
    slug,
    held: data,
    error,
    missing,
    again,
    edits,
    proposals,
    take,
    understand: (body: TakeIn) => calls.understand(slug.value, body),
  };
}

/** The application of the page's address. With goes, a draft is kept while it is being changed. */
export function useApplication(o: { goes?: boolean } = {}) {
  const page = usePartnerPage<Application, ApplicationConfig>(
    "application",
    {
      get: (slug) => ok(http.GET("/applications/{slug}", at(slug))),
      put: (slug, revision, body) =>
        ok(http.PUT("/applications/{slug}", { params: { path: { slug }, query: { revision } }, body })),
      understand: understandApplication,
      take: (slug, body) => ok(http.POST("/applications/{slug}/take", { ...at(slug), body })),
      config: applicationConfig,
    },
    !!o.goes,
  );
  // Asked by the page, whichever station it stands at when it is saved.
  page.edits.ask(async () => {
    const subject = page.edits.draft.value.subject;
    return alike(subject, page.held.value?.subject) || sureOfSubject(page.slug.value, subject);
  });
  return page;
}

/** The provider of the page's address. */
export const useProvider = () =>
  usePartnerPage<Provider, ProviderConfig>(
    "provider",
    {
      get: (slug) => ok(http.GET("/providers/{slug}", at(slug))),
      put: (slug, revision, body) =>
        ok(http.PUT("/providers/{slug}", { params: { path: { slug }, query: { revision } }, body })),
      understand: (slug, body) => ok(http.POST("/providers/{slug}/understand", { ...at(slug), body })),
      take: (slug, body) => ok(http.POST("/providers/{slug}/take", { ...at(slug), body })),
      config: providerConfig,
    },
    false,
  );

/** The host of an address or identifier, for where there is no room for more. */
export const hostOf = (id?: string) => id?.replace(/^[a-z]+:\/\//, "").split("/")[0] ?? "";
