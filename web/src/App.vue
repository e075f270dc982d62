<script setup lang="ts">
import { useQueryClient } from "@tanstack/vue-query";
import Button from "primevue/button";
import ConfirmDialog from "primevue/confirmdialog";
import { useEventListener, useMutationObserver } from "@vueuse/core";
import { nextTick, ref, useTemplateRef, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { connected, follow } from "./api/live";
import { useUnread } from "./notices/queries";
import { useSession, useSessionActs } from "./api/session";
import { night, switchNight } from "./design/theme";
import ToldToast from "./shared/ToldToast.vue";
import SearchDialog from "./shared/SearchDialog.vue";
import ShortcutsDialog from "./shared/ShortcutsDialog.vue";
import { useShortcuts } from "./shared/shortcuts";

const keys = ref(false);
const client = useQueryClient();
const route = useRoute();
const router = useRouter();
const { session, may } = useSession();
const { signOut } = useSessionActs();
const { data: unread } = useUnread(() => !!session.value);

let unfollow: (() => void) | undefined;
watch(
  () => session.value?.person,
  (person, before) => {
    unfollow?.();
    unfollow = person ? follow(client) : undefined;
    if (before && !person && !route.meta.open) void router.push({ path: "/sign-in", query: { then: route.fullPath } });
  },
  { immediate: true },
);

// What is on the page is its title, for tabs, history and whoever hears it; and where the focus was is gone with the page before.
const main = useTemplateRef("main");
useMutationObserver(
  main,
  () => {
    const head = main.value?.querySelector("h1")?.textContent?.trim();
    const title = head ? `${head} · Tide Marker` : "Tide Marker";
    if (document.title !== title) document.title = title;
  },
  { childList: true, subtree: true, characterData: true },
);
router.afterEach(async (to, from, failure) => {
  if (failure || to.path === from.path || !from.matched.length) return;
  await nextTick();
  if (document.activeElement === document.body) main.value?.focus({ preventScroll: true });
});

useShortcuts((key) => key === "?" && (() => (keys.value = true)));
const searching = ref(false);
// Ctrl K as everywhere; also while something is typed, and not over an open dialog.
useEventListener("keydown", (e: KeyboardEvent) => {
  if (e.key.toLowerCase() !== "k" || !(e.ctrlKey || e.metaKey) || e.altKey || e.shiftKey || !session.value) return;
  e.preventDefault();
  if (!document.querySelector("[role=dialog], [role=alertdialog]")) searching.value = true;
});
</script>

<template>
  <a class="skip" href="#main">Skip to the content</a>
  <header class="strip">
    <RouterLink to="/" class="name">
      <svg viewBox="0 0 34 18" width="34" height="18" aria-hidden="true">
        <path d="M1 12c5-7 10-7 16 0s11 7 16 0" fill="none" stroke="currentColor" stroke-width="2" />
        <path d="M17 17V1l7 3-7 3" fill="none" stroke="var(--broken)" stroke-width="1.8" />
      </svg>
      Tide Marker
    </RouterLink>
    <span v-if="!connected" class="offline" role="status">No connection; trying again</span>
    <span class="grow" />
    <template v-if="session">
      <Button text size="small" label="Search" title="Search everything (Ctrl K)" @click="searching = true" />
      <RouterLink to="/words" class="small">Words</RouterLink>
      <RouterLink to="/notices" class="small"
        >Notices<b v-if="unread" class="count"
          >{{ unread > 99 ? "99+" : unread }}<span class="visually-hidden"> unread</span></b
        ></RouterLink
      >
      <RouterLink to="/calendar" class="small">Calendar</RouterLink>
      <RouterLink v-if="may('administer')" to="/people" class="small">People</RouterLink>
      <RouterLink to="/you" class="small" :title="`Signed in as ${session.role}`">{{ session.name }}</RouterLink>
      <span v-if="signOut.error.value" class="offline" role="alert"
        >Not signed out: {{ signOut.error.value.message }}</span
      >
      <Button text size="small" label="Sign out" @click="signOut.mutate()" />
    </template>
    <Button
      text
      size="small"
      class="keys"
      label="Shortcuts"
      title="Keyboard shortcuts (press ?)"
      @click="keys = true"
    />
    <Button text size="small" :label="night ? 'Light' : 'Dark'" @click="switchNight" />
  </header>
  <main id="main" ref="main" tabindex="-1">
    <RouterView :key="$route.path" />
  </main>
  <ShortcutsDialog v-model="keys" />
  <SearchDialog v-if="searching" v-model="searching" />
  <ToldToast />
  <ConfirmDialog :style="{ width: '32rem' }" :draggable="false" />
</template>

<style scoped>
.skip {
  position: absolute;
  left: -999px;
}
.skip:focus {
  left: 8px;
  top: 8px;
  background: var(--sheet);
  padding: 6px 10px;
  z-index: 10;
}
.strip {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 2px var(--s3);
  padding: 5px var(--s4);
  border-bottom: 3px double var(--rule-strong);
  background: var(--sheet);
}
.name {
  display: inline-flex;
  align-items: center;
  gap: 8px;
  font-family: var(--chart);
  font-style: italic;
  font-weight: 600;
  font-size: 1.15rem;
  color: var(--deep);
  text-decoration: none;
}
.grow {
  flex: 1;
}
.count {
  display: inline-block;
  margin-left: 5px;
  padding: 0 5px;
  border: 1.5px solid var(--deep);
  font-size: 0.8em;
}
.offline {
  color: var(--broken);
  font-weight: 600;
}
main {
  max-width: 1440px;
  margin: 0 auto;
  padding: var(--s4);
}
/* Where there is much room, pictures and tables take it. */
@media (min-width: 1900px) {
  main {
    max-width: 88vw;
  }
}
@media (max-width: 700px) {
  .keys {
    display: none;
  }
  .strip {
    padding: 4px var(--s3);
  }
  .strip :deep(.p-button) {
    padding: 2px 4px;
  }
  .grow {
    flex-basis: 100%;
  }
  main {
    padding: var(--s3);
  }
}
@media print {
  .strip,
  .skip {
    display: none;
  }
}
main:focus {
  outline: none;
}
</style>
