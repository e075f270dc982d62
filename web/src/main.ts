import "@fontsource-variable/source-sans-3/index.css";
import "@fontsource-variable/source-serif-4/index.css";
import "@fontsource-variable/source-serif-4/wght-italic.css";
import "./design/tokens.css";
import "./design/tables.css";
import "./design/print.css";
import { MutationCache, QueryCache, QueryClient, VueQueryPlugin } from "@tanstack/vue-query";
import PrimeVue from "primevue/config";
import ConfirmationService from "primevue/confirmationservice";
import ToastService from "primevue/toastservice";
import { createApp } from "vue";
import App from "./App.vue";
import { Problem } from "./api/client";
import { sessionQuery } from "./api/session";
import { Chart } from "./design/preset";
import { vListed } from "./shared/listed";
import { router } from "./router";

// A session that is over, wherever that shows first.
const onError = (e: Error) => {
  if (e instanceof Problem && e.status === 401) client.setQueryData(sessionQuery.queryKey, null);
};
const client: QueryClient = new QueryClient({
  queryCache: new QueryCache({ onError }),
  // Whoever is signing in is told what was wrong, and asked again.
  mutationCache: new MutationCache({
    onError: (e) => client.getQueryData(sessionQuery.queryKey) && onError(e),
  }),
  defaultOptions: {
    queries: {
      shallow: true, // what was read is replaced whole; following each part of 5,000 findings takes longer than drawing them
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
  .directive("listed", vListed)
  .use(router)
  .use(VueQueryPlugin, { queryClient: client })
  .use(PrimeVue, { theme: { preset: Chart, options: { darkModeSelector: ".night" } } })
  .use(ConfirmationService)
  .use(ToastService)
  .mount("#app");
