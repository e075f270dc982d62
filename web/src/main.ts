import "@fontsource-variable/source-sans-3/index.css";
import "@fontsource-variable/source-serif-4/index.css";
import "@fontsource-variable/source-serif-4/wght-italic.css";
import "primeicons/primeicons.css";
import "./design/tokens.css";
import { QueryClient, VueQueryPlugin } from "@tanstack/vue-query";
import PrimeVue from "primevue/config";
import { createApp } from "vue";
import App from "./App.vue";
import { Problem } from "./api/client";
import { follow } from "./api/live";
import { Chart } from "./design/preset";
import { router } from "./router";

const client = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      retry: (n, e) => n < 2 && (!(e instanceof Problem) || e.status === 0 || e.status >= 500),
    },
  },
});
follow(client);

createApp(App)
  .use(router)
  .use(VueQueryPlugin, { queryClient: client })
  .use(PrimeVue, { theme: { preset: Chart, options: { darkModeSelector: ".night" } } })
  .mount("#app");
