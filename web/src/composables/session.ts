import { defineStore } from "pinia";
import { computed, ref } from "vue";
import { ApiError, http, ok, useCsrf, type Me } from "../api/client";

const rank: Record<string, number> = { viewer: 1, engineer: 2, owner: 3 };

/** Who is signed in to the console. */
export const useSession = defineStore("session", () => {
  const me = ref<Me | null>(null);
  const asked = ref(false);

  function keep(value: Me | null) {
    me.value = value;
    useCsrf(value?.csrf ?? "");
  }

  async function load() {
    try {
      keep(await ok(http.GET("/session")));
    } catch (e) {
      if (!(e instanceof ApiError) || e.problem.status !== 401) throw e;
      keep(null);
    } finally {
      asked.value = true;
    }
  }

  async function signIn(name: string, password: string) {
    keep(await ok(http.POST("/session", { body: { name, password } })));
  }

  async function signOut() {
    await ok(http.DELETE("/session"));
    keep(null);
  }

  const may = (role: "viewer" | "engineer" | "owner") => (rank[me.value?.role ?? ""] ?? 0) >= rank[role]!;
  return {
    me,
    asked,
    load,
    signIn,
    signOut,
    may,
    engineer: computed(() => may("engineer")),
    owner: computed(() => may("owner")),
  };
});
