import { createRouter, createWebHistory } from "vue-router";

const id = (r: { params: { id?: string | string[] } }) => ({ id: Number(r.params.id) });

export const router = createRouter({
  history: createWebHistory(),
  // What is chosen on a page is part of its address; it stays where it is.
  scrollBehavior: (to, from, saved) => saved ?? (to.path === from.path ? false : { top: 0 }),
  routes: [
    { path: "/", component: () => import("./views/SitesView.vue"), meta: { title: "Sites" } },
    { path: "/sites/:id(\\d+)", component: () => import("./views/SiteView.vue"), props: id },
    { path: "/sites/:id(\\d+)/history", component: () => import("./views/HistoryView.vue"), props: id },
    { path: "/sites/:id(\\d+)/exclusions", component: () => import("./views/ExclusionsView.vue"), props: id },
    { path: "/sites/:id(\\d+)/test-plan", component: () => import("./views/TestPlanView.vue"), props: id },
    { path: "/sites/:id(\\d+)/field", component: () => import("./views/FieldView.vue"), props: id },
    {
      path: "/calendar",
      component: () => import("./views/CalendarView.vue"),
      props: { id: 0 },
      meta: { title: "Calendar" },
    },
    { path: "/sites/:id(\\d+)/calendar", component: () => import("./views/CalendarView.vue"), props: id },
    { path: "/sites/:id(\\d+)/kept", component: () => import("./views/KeptView.vue"), props: id },
    { path: "/sites/:id(\\d+)/settings", component: () => import("./views/SettingsView.vue"), props: id },
    { path: "/changes/:id(\\d+)", component: () => import("./views/ChangeView.vue"), props: id },
    { path: "/changes/:id(\\d+)/other-sites", component: () => import("./views/OffersView.vue"), props: id },
    { path: "/rollouts/:id(\\d+)", component: () => import("./views/RolloutView.vue"), props: id },
    { path: "/runs/:id(\\d+)", component: () => import("./views/RunView.vue"), props: id },
    { path: "/runs/:id(\\d+)/pages", component: () => import("./views/MeasuredPageView.vue"), props: id },
    { path: "/measurements", component: () => import("./views/CompareView.vue"), meta: { title: "Measurements" } },
    { path: "/add-site/:id(\\d+)?", component: () => import("./views/AddSiteView.vue"), props: id },
    { path: "/notices", component: () => import("./views/NoticesView.vue"), meta: { title: "Notices" } },
    { path: "/people", component: () => import("./views/PeopleView.vue") },
    { path: "/you", component: () => import("./views/YouView.vue") },
    { path: "/sign-in", component: () => import("./views/SignInView.vue"), meta: { open: true } },
    { path: "/join", component: () => import("./views/JoinView.vue"), meta: { open: true } },
    ...(import.meta.env.DEV ? [{ path: "/sheet", component: () => import("./views/SheetView.vue") }] : []),
    { path: "/:rest(.*)", component: () => import("./views/MissingView.vue") },
  ],
});
