import { computed, ref, type Ref } from "vue";
import { http, ok, type Proposal } from "../api/client";
import { useLoad } from "./load";

const longest = 400;

/**
 * Two values with what they share at both ends taken apart, so that what differs can be marked.
 * Long ones are shortened where they are alike.
 */
export function marked(
  before: string,
  after: string,
): { before: string; after: string; head: string; gone: string; come: string; tail: string } {
  if (!before || !after) return { before, after, head: "", gone: "", come: "", tail: shorten(before || after) };
  let n = 0;
  while (n < before.length && n < after.length && before[n] === after[n]) n++;
  let m = 0;
  while (m < before.length - n && m < after.length - n && before[before.length - 1 - m] === after[after.length - 1 - m])
    m++;
  let head = before.slice(0, n);
  let tail = before.slice(before.length - m);
  if (head.length > longest / 2) head = "…" + head.slice(-60);
  if (tail.length > longest / 2) tail = tail.slice(0, 60) + "…";
  return {
    before,
    after,
    head,
    gone: shorten(before.slice(n, before.length - m)),
    come: shorten(after.slice(n, after.length - m)),
    tail,
  };
}

function shorten(text: string): string {
  return text.length > longest ? `${text.slice(0, longest - 60)} … ${text.slice(-50)}` : text;
}

/** The fields that a revision changed, in short. */
export function inShort(r: { action: string; changes: { field: string }[] }): string {
  if (r.action === "create") return "made";
  if (r.action === "remove") return "deleted";
  const fields = r.changes.map((c) => c.field);
  return fields.length > 3 ? `${fields.slice(0, 3).join(", ")} and ${fields.length - 3} more` : fields.join(", ");
}

/** Where the page of an object is, if it has one. */
export function pageOf(kind: string, slug: string): string | undefined {
  if (kind === "application" || kind === "provider") return `/${kind}s/${slug}`;
  if (kind === "source") return `/sources/${slug}`;
  const own: Record<string, string> = { group: "/groups", "rule set": "/rule-sets", template: "/templates" };
  if (kind === "assignment") return `/applications/${slug.split("/")[0]}?station=access`;
  if (kind === "setting") return { routes: "/routes", people: "/people-settings", sessions: "/sessions" }[slug];
  return own[kind];
}

export const stateWords: Record<string, { text: string; state: string }> = {
  open: { text: "proposed", state: "attention" },
  approved: { text: "approved", state: "sound" },
  applied: { text: "made", state: "sound" },
  withdrawn: { text: "withdrawn", state: "" },
  missed: { text: "not made", state: "broken" },
};

/** A local time as an input of the kind datetime-local has it, and back. */
export const fromInput = (text: string) => (text ? new Date(text).toISOString() : undefined);
export function toInput(at: Date): string {
  const pad = (n: number) => String(n).padStart(2, "0");
  return `${at.getFullYear()}-${pad(at.getMonth() + 1)}-${pad(at.getDate())}T${pad(at.getHours())}:${pad(at.getMinutes())}`;
}

/** Whether changes on a page are proposed instead of made, and what was proposed last. */
export function useProposing(kind: "application" | "provider", object: Ref<{ slug: string; reach: string } | null>) {
  const { data: review } = useLoad(() => ok(http.GET("/review")));
  const wanted = ref(false);
  const proposed = ref<Proposal | null>(null);
  const serves = computed(() => ["circle", "everyone"].includes(object.value?.reach ?? ""));
  const must = computed(() => serves.value && !!review.value?.second);
  const proposing = computed(() => serves.value && (wanted.value || must.value));
  async function propose(config: object) {
    const body =
      kind === "application"
        ? { kind, slug: object.value!.slug, application: config }
        : { kind, slug: object.value!.slug, provider: config };
    proposed.value = await ok(http.POST("/proposals", { body: body as never }));
  }
  return { wanted, proposed, serves, must, proposing, propose };
}
