import "@fontsource-variable/source-sans-3/index.css";
import "@fontsource-variable/source-serif-4/index.css";
import "@fontsource-variable/source-serif-4/wght-italic.css";
import "primeicons/primeicons.css";
import "./design/tokens.css";
import { QueryCache, QueryClient, VueQueryPlugin } from "@tanstack/vue-query";
import PrimeVue from "primevue/config";
import { createApp } from "vue";
import App from "./App.vue";
import { Problem } from "./api/client";
import { sessionQuery } from "./api/session";
import { Chart } from "./design/preset";
import { router } from "./router";

const client = new QueryClient({
  queryCache: new QueryCache({
    // A session that is over, wherever that shows first.
    onError: (e) => {
      if (e instanceof Problem && e.status === 401) client.setQueryData(sessionQuery.queryKey, null);
    },
  }),
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      retry: (n, e) => n < 2 && (!(e instanceof Problem) || e.status === 0 || e.status >= 500),
    },
  },
});

router.beforeEach(async (to) => {
  if (to.meta.open) return true;
  const session = await client.ensureQueryData(sessionQuery).catch(() => undefined);
  if (session === null) return { path: "/sign-in", query: { then: to.fullPath } };
  if (session?.needs === "enrolment" && to.path !== "/you") return "/you";
  return true;
});

createApp(App)
  .use(router)
  .use(VueQueryPlugin, { queryClient: client })
  .use(PrimeVue, { theme: { preset: Chart, options: { darkModeSelector: ".night" } } })
  .mount("#app");
