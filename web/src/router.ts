import { createRouter, createWebHistory } from "vue-router";

const id = (r: { params: { id?: string | string[] } }) => ({ id: Number(r.params.id) });

export const router = createRouter({
  history: createWebHistory(),
  // What is chosen on a page is part of its address; it stays where it is.
  scrollBehavior: (to, from, saved) =>
    saved ?? (to.hash ? { el: to.hash } : to.path === from.path ? false : { top: 0 }),
  routes: [
    { path: "/", component: () => import("./site/SitesView.vue"), meta: { title: "Sites" } },
    { path: "/sites/:id(\\d+)", component: () => import("./site/SiteView.vue"), props: id },
    ...(["changes", "runs", "marks", "revisions"] as const).map((list) => ({
      path: `/sites/:id(\\d+)/${list}`,
      component: () => import("./records/RecordsView.vue"),
      props: (r: { params: { id?: string | string[] } }) => ({ ...id(r), list }),
    })),
    { path: "/sites/:id(\\d+)/history", component: () => import("./site/HistoryView.vue"), props: id },
    { path: "/sites/:id(\\d+)/exclusions", component: () => import("./exclusions/ExclusionsView.vue"), props: id },
    { path: "/sites/:id(\\d+)/test-plan", component: () => import("./testplan/TestPlanView.vue"), props: id },
    { path: "/sites/:id(\\d+)/field", component: () => import("./field/FieldView.vue"), props: id },
    {
      path: "/calendar",
      component: () => import("./calendar/CalendarView.vue"),
      props: { id: 0 },
      meta: { title: "Calendar" },
    },
    { path: "/sites/:id(\\d+)/calendar", component: () => import("./calendar/CalendarView.vue"), props: id },
    { path: "/sites/:id(\\d+)/kept", component: () => import("./site/RetentionView.vue"), props: id },
    { path: "/sites/:id(\\d+)/settings", component: () => import("./site/SettingsView.vue"), props: id },
    { path: "/changes/:id(\\d+)", component: () => import("./change/ChangeView.vue"), props: id },
    { path: "/changes/:id(\\d+)/other-sites", component: () => import("./rollout/OffersView.vue"), props: id },
    { path: "/rollouts/:id(\\d+)", component: () => import("./rollout/RolloutView.vue"), props: id },
    { path: "/runs/:id(\\d+)", component: () => import("./run/RunView.vue"), props: id },
    { path: "/runs/:id(\\d+)/compare", component: () => import("./run/CompareRunsView.vue"), props: id },
    { path: "/runs/:id(\\d+)/pages", component: () => import("./measure/MeasuredPageView.vue"), props: id },
    { path: "/measurements", component: () => import("./measure/CompareView.vue"), meta: { title: "Measurements" } },
    { path: "/add-site/:id(\\d+)?", component: () => import("./addsite/AddSiteView.vue"), props: id },
    { path: "/notices", component: () => import("./notices/NoticesView.vue"), meta: { title: "Notices" } },
    { path: "/words", component: () => import("./shared/WordsView.vue"), meta: { title: "Words" } },
    { path: "/people", component: () => import("./people/PeopleView.vue") },
    { path: "/you", component: () => import("./people/YouView.vue") },
    { path: "/sign-in", component: () => import("./people/SignInView.vue"), meta: { open: true } },
    { path: "/join", component: () => import("./people/JoinView.vue"), meta: { open: true } },
    ...(import.meta.env.DEV ? [{ path: "/sheet", component: () => import("./shared/SheetView.vue") }] : []),
    { path: "/:rest(.*)", component: () => import("./shared/MissingView.vue") },
  ],
});
