<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { useRouter } from "vue-router";
import { useSession } from "../composables/session";
import CommandPalette from "./CommandPalette.vue";

const session = useSession();
const router = useRouter();
const dark = ref(document.documentElement.classList.contains("dark"));
const palette = ref<InstanceType<typeof CommandPalette> | null>(null);
const places = [
  ["/", "Overview"],
  ["/applications", "Applications"],
  ["/providers", "Providers"],
  ["/people", "People"],
  ["/sources", "Sources"],
  ["/keyring", "Keyring"],
  ["/traces", "Traces"],
  ["/checkup", "Checkup"],
  ["/history", "Changes"],
] as const;

function toggle() {
  dark.value = !dark.value;
  document.documentElement.classList.toggle("dark", dark.value);
  localStorage.setItem("innergate-theme", dark.value ? "dark" : "light");
}

async function leave() {
  await session.signOut();
  await router.push("/sign-in");
}
</script>

<template>
  <header>
    <RouterLink class="name" to="/">
      <svg width="22" height="22" viewBox="0 0 22 22" aria-hidden="true">
        <path d="M3 21V10a8 8 0 0 1 16 0v11" fill="none" stroke="#d7a24a" stroke-width="2.6" />
        <path d="M8.5 21v-9a2.5 2.5 0 0 1 5 0v9" fill="none" stroke="#efe9db" stroke-width="2" />
      </svg>
      Inner Gate
    </RouterLink>
    <nav aria-label="Main">
      <RouterLink
        v-for="[path, name] in places"
        :key="path"
        :to="path"
        :class="{
          on:
            path === '/'
              ? $route.path === '/'
              : $route.path.startsWith(path) ||
                (path === '/people' && /^\/(groups|rule-sets|sessions)/.test($route.path)) ||
                (path === '/traces' && /^\/(statistics|judge)/.test($route.path)) ||
                (path === '/history' && /^\/(proposals|files|journal)/.test($route.path)) ||
                (path === '/applications' && /^\/(batches|moves|report)/.test($route.path)),
        }"
        >{{ name }}</RouterLink
      >
      <RouterLink v-if="session.owner" to="/settings" :class="{ on: /^\/(settings|nodes|copies)/.test($route.path) }"
        >Access</RouterLink
      >
      <RouterLink v-else to="/nodes" :class="{ on: $route.path === '/nodes' }">Nodes</RouterLink>
    </nav>
    <ElButton class="find" @click="palette?.open()">Find anything <kbd>Ctrl K</kbd></ElButton>
    <ElButton link class="plain" :aria-pressed="dark" @click="toggle">{{ dark ? "Light" : "Dark" }}</ElButton>
    <ElButton link class="plain" :title="`${session.me?.name}, ${session.me?.role}`" @click="leave">Sign out</ElButton>
    <CommandPalette ref="palette" />
  </header>
</template>

<style scoped>
header {
  display: flex;
  align-items: center;
  gap: 18px;
  min-height: 52px;
  padding: 0 28px;
  background: var(--bar);
  color: var(--bar-ink);
  flex-wrap: wrap;
}
.name {
  display: flex;
  gap: 10px;
  align-items: center;
  font-weight: 700;
  font-size: 16px;
  color: var(--bar-ink);
  white-space: nowrap;
  text-decoration: none;
}
nav {
  display: flex;
  gap: 18px;
  flex: 1;
  flex-wrap: wrap;
}
nav a {
  color: var(--bar-soft);
  text-decoration: none;
  padding: 14px 0 11px;
  border-bottom: 3px solid transparent;
}
nav a.on {
  color: #fff;
  border-color: #d7a24a;
}
.find :deep(span) {
  display: flex;
  width: 100%;
  justify-content: space-between;
}
.find {
  min-width: 190px;
  background: #2c393b;
  border: 1px solid #5a696c;
  border-radius: 4px;
  color: #d5dbda;
  padding: 5px 10px;
  font-size: 13.5px;
  cursor: pointer;
}
kbd {
  font: inherit;
}
.plain {
  background: none;
  border: 0;
  color: var(--bar-soft);
  font-size: 14px;
  padding: 6px 2px;
  margin: 0;
  text-decoration: none;
}
.plain.el-button.is-link {
  text-decoration: none;
}
.plain:hover,
nav a:hover {
  color: #fff;
}
@media (max-width: 1100px) {
  header {
    padding: 4px 16px 0;
    row-gap: 0;
  }
  .name {
    flex: 1;
  }
  nav {
    order: 1;
    flex: 1 0 100%;
    gap: 0 16px;
  }
  nav a {
    padding: 6px 0 5px;
  }
}
</style>
