import { computed } from "vue";
import { useRoute } from "vue-router";
import { applicationConfig, http, ok, type ApplicationConfig, type TakeIn } from "../api/client";
import { useProposing } from "./changes";
import { useLoad, useQueue } from "./load";

/** The application of the page's address, with the ways to change it. */
export function useApplication() {
  const route = useRoute();
  const slug = computed(() => String(route.params.slug));
  const path = () => ({ path: { slug: slug.value } });
  const { data, error, missing, again } = useLoad(
    () => ok(http.GET("/applications/{slug}", { params: path() })),
    [slug],
  );
  type Input = TakeIn;
  const queue = useQueue();
  const proposals = useProposing("application", data);
  const save = (change: (held: ApplicationConfig) => ApplicationConfig) =>
    queue(async () => {
      const held = data.value!;
      if (proposals.proposing.value) return proposals.propose(change(applicationConfig(held)));
      data.value = await ok(
        http.PUT("/applications/{slug}", {
          params: { ...path(), query: { revision: held.revision } },
          body: change(applicationConfig(held)),
        }),
      );
    });
  const understand = (body: Input) => ok(http.POST("/applications/{slug}/understand", { params: path(), body }));
  const take = (body: Input) =>
    queue(async () => {
      data.value = await ok(http.POST("/applications/{slug}/take", { params: path(), body }));
    });
  return { slug, application: data, error, missing, again, save, understand, take, proposals };
}
