import { createRouter, createWebHistory } from "vue-router";
import { useSession } from "./composables/session";
import { sure } from "./composables/sure";
import { keepAll, leaves, unsaved } from "./composables/unsaved";

export const router = createRouter({
  history: createWebHistory("/console/"),
  scrollBehavior: (to, from) => (to.path === from.path ? undefined : { top: 0 }),
  routes: [
    { path: "/sign-in", component: () => import("./pages/SignIn.vue"), meta: { open: true, title: "Sign in" } },
    { path: "/set-up", component: () => import("./pages/SetUp.vue"), meta: { open: true, title: "Set up" } },
    { path: "/", component: () => import("./pages/Overview.vue"), meta: { title: "Overview" } },
    { path: "/applications", component: () => import("./pages/Applications.vue"), meta: { title: "Applications" } },
    {
      path: "/applications/new",
      component: () => import("./pages/NewApplication.vue"),
      meta: { title: "Connect an application" },
    },
    {
      path: "/applications/:slug/connect",
      component: () => import("./pages/ConnectApplication.vue"),
      meta: { title: "Connect" },
    },
    {
      path: "/applications/:slug/exchange",
      component: () => import("./pages/Exchange.vue"),
      meta: { title: "Exchange sheet", kind: "applications" },
    },
    {
      path: "/applications/:slug",
      component: () => import("./pages/ApplicationPage.vue"),
      meta: { title: "Application" },
    },
    { path: "/providers", component: () => import("./pages/Providers.vue"), meta: { title: "Providers" } },
    {
      path: "/providers/new",
      component: () => import("./pages/NewProvider.vue"),
      meta: { title: "Connect a provider" },
    },
    {
      path: "/providers/:slug/exchange",
      component: () => import("./pages/Exchange.vue"),
      meta: { title: "Exchange sheet", kind: "providers" },
    },
    { path: "/providers/:slug", component: () => import("./pages/ProviderPage.vue"), meta: { title: "Provider" } },
    { path: "/traces", component: () => import("./pages/Traces.vue"), meta: { title: "Traces" } },
    { path: "/judge", component: () => import("./pages/JudgePage.vue"), meta: { title: "Judge a message" } },
    {
      path: "/traces/:reference/compare",
      component: () => import("./pages/CompareTraces.vue"),
      meta: { title: "Two sign-ins" },
    },
    { path: "/statistics", component: () => import("./pages/Statistics.vue"), meta: { title: "Sign-ins over time" } },
    { path: "/traces/:reference", component: () => import("./pages/TracePage.vue"), meta: { title: "Trace" } },
    { path: "/checkup", component: () => import("./pages/Checkup.vue"), meta: { title: "Checkup" } },
    { path: "/routes", component: () => import("./pages/RoutesPage.vue"), meta: { title: "Routes" } },
    { path: "/people", component: () => import("./pages/People.vue"), meta: { title: "People" } },
    { path: "/people/new", component: () => import("./pages/PersonPage.vue"), meta: { title: "Add a person" } },
    { path: "/people/:id", component: () => import("./pages/PersonPage.vue"), meta: { title: "Person" } },
    { path: "/sessions", component: () => import("./pages/Sessions.vue"), meta: { title: "Sessions" } },
    { path: "/groups", component: () => import("./pages/Groups.vue"), meta: { title: "Groups" } },
    { path: "/rule-sets", component: () => import("./pages/RuleSets.vue"), meta: { title: "Rule sets" } },
    {
      path: "/people-settings",
      component: () => import("./pages/PeopleSettings.vue"),
      meta: { title: "Types, attributes, import" },
    },
    { path: "/keyring", component: () => import("./pages/Keyring.vue"), meta: { title: "Keyring" } },
    { path: "/sources", component: () => import("./pages/Sources.vue"), meta: { title: "Sources" } },
    { path: "/sources/:slug", component: () => import("./pages/SourcePage.vue"), meta: { title: "Source" } },
    { path: "/templates", component: () => import("./pages/Templates.vue"), meta: { title: "Templates" } },
    { path: "/history", component: () => import("./pages/HistoryPage.vue"), meta: { title: "History" } },
    { path: "/proposals", component: () => import("./pages/Proposals.vue"), meta: { title: "Proposed changes" } },
    { path: "/proposals/:id", component: () => import("./pages/ProposalPage.vue"), meta: { title: "Proposed change" } },
    { path: "/files", component: () => import("./pages/FilesPage.vue"), meta: { title: "Configuration as files" } },
    { path: "/batches", component: () => import("./pages/Batches.vue"), meta: { title: "Many at once" } },
    { path: "/batches/:id", component: () => import("./pages/BatchPage.vue"), meta: { title: "Many at once" } },
    { path: "/moves", component: () => import("./pages/Moves.vue"), meta: { title: "Moves" } },
    { path: "/moves/:slug", component: () => import("./pages/MovePage.vue"), meta: { title: "Move" } },
    { path: "/report", component: () => import("./pages/ReportPage.vue"), meta: { title: "Report" } },
    { path: "/nodes", component: () => import("./pages/Nodes.vue"), meta: { title: "Nodes" } },
    { path: "/copies", component: () => import("./pages/Copies.vue"), meta: { title: "Copies" } },
    { path: "/journal", component: () => import("./pages/Journal.vue"), meta: { title: "Journal" } },
    {
      path: "/settings",
      component: () => import("./pages/Settings.vue"),
      meta: { title: "Administrators and tokens" },
    },
    { path: "/:rest(.*)*", component: () => import("./pages/NotFound.vue"), meta: { title: "Not found" } },
  ],
});

async function mayLeave() {
  await keepAll();
  return !unsaved() || sure("What you changed here is not saved yet.", "Leave it unsaved", "Stay here");
}

router.beforeEach(async (to, from) => {
  if (leaves(to, from) && !(await mayLeave())) return false;
  const session = useSession();
  if (!session.asked) await session.load().catch(() => undefined);
  if (!to.meta.open && !session.me) return { path: "/sign-in", query: to.path === "/" ? {} : { next: to.fullPath } };
});

// The browser asks in its own words where the page is closed, or loaded anew.
addEventListener("beforeunload", (e) => {
  if (unsaved()) e.preventDefault();
});

// A part of the console may be gone after an upgrade, or be lost on the way: then the page is opened anew, once.
const openedAnew = "opened-anew";
router.onError((error, to) => {
  if (!/imported module|importing a module|preload/i.test(String(error))) return;
  if (Date.now() - Number(sessionStorage.getItem(openedAnew) ?? 0) < 10_000) return;
  sessionStorage.setItem(openedAnew, String(Date.now()));
  location.assign(router.resolve(to.fullPath).href);
});

router.afterEach((to) => {
  document.title = `${String(to.meta.title)} · Inner Gate`;
});
