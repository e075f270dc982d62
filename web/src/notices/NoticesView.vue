<script setup lang="ts">
/** What somebody is told: what waits on the sites, and notices, the latest first; how they reach them; and webhooks. */
import Button from "primevue/button";
import { computed } from "vue";
import { useRoute } from "vue-router";
import { useNoticeActs, useNotices, type Notice } from "./queries";
import { useSites } from "../site/queries";
import { useSession } from "../api/session";
import AskState from "../shared/AskState.vue";
import NoticeChoices from "./NoticeChoices.vue";
import WebhookList from "./WebhookList.vue";
import When from "../shared/When.vue";
import { rest, topicWord } from "./notices";
import { whereItWaits } from "../site/waits";

const route = useRoute();
const { may } = useSession();
const tab = computed(() => String(route.query.tab ?? "list"));
const unread = computed(() => route.query.unread === "yes");
const { data, isPending, error, refetch, hasNextPage, fetchNextPage, isFetchingNextPage } = useNotices(unread);
const acts = useNoticeActs();
const list = computed(() => data.value?.pages.flatMap((p) => p.notices) ?? []);
const count = computed(() => data.value?.pages[0]?.unread ?? 0);
const { data: waiting } = useSites("", true, "waiting", 0);
function open(n: Notice) {
  if (!n.read) acts.read.mutate({ only: n.id });
}
</script>

<template>
  <div class="spread">
    <h1>Notices</h1>
    <nav class="row" aria-label="Parts">
      <RouterLink to="/notices" :aria-current="tab === 'list' ? 'page' : undefined">Notices</RouterLink>
      <RouterLink to="/notices?tab=choices" :aria-current="tab === 'choices' ? 'page' : undefined"
        >How they reach you</RouterLink
      >
      <RouterLink
        v-if="may('administer')"
        to="/notices?tab=webhooks"
        :aria-current="tab === 'webhooks' ? 'page' : undefined"
        >Webhooks</RouterLink
      >
    </nav>
  </div>
  <NoticeChoices v-if="tab === 'choices'" />
  <WebhookList v-else-if="tab === 'webhooks' && may('administer')" />
  <div v-else class="two">
    <section class="stack">
      <div class="spread">
        <span class="row">
          <RouterLink :to="unread ? '/notices' : '/notices?unread=yes'" class="small">{{
            unread ? "Show all" : `Only unread (${count})`
          }}</RouterLink>
        </span>
        <Button
          v-if="count"
          size="small"
          outlined
          label="Mark all as read"
          :loading="acts.read.isPending.value"
          @click="acts.read.mutate({ upTo: list[0]?.id })"
        />
      </div>
      <AskState :pending="isPending" :error="error" what="Your notices" @again="refetch()">
        <p v-if="!list.length" class="faded">
          {{ unread ? "You have read all of them." : "Nobody has told you anything yet." }}
        </p>
        <ul class="plain-list">
          <li v-for="n in list" :key="n.id" class="notice" :class="{ unread: !n.read }">
            <p class="spread">
              <span class="small topic">{{ topicWord[n.topic] }} · {{ n.siteName }}</span>
              <span class="small faded"><When :at="n.at" short /></span>
            </p>
            <p>
              <RouterLink :to="n.link" @click="open(n)">{{ n.title }}</RouterLink>
              <span v-if="!n.read" class="visually-hidden"> (unread)</span>
            </p>
            <p v-if="rest(n)" class="small">{{ rest(n) }}</p>
          </li>
        </ul>
        <Button
          v-if="hasNextPage"
          size="small"
          text
          label="Show earlier ones"
          :loading="isFetchingNextPage"
          @click="fetchNextPage()"
        />
      </AskState>
    </section>
    <aside class="stack">
      <h2>Waiting</h2>
      <p v-if="waiting && !waiting.sites.length" class="faded">Nothing is waiting.</p>
      <ul class="plain-list">
        <li v-for="s in waiting?.sites ?? []" :key="s.id" class="waits">
          <p class="small faded">{{ s.name }}</p>
          <RouterLink :to="whereItWaits(s)">{{ s.waiting }}</RouterLink>
        </li>
      </ul>
    </aside>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(0, 1fr);
  gap: var(--s5);
  margin-top: var(--s3);
}
nav [aria-current="page"] {
  font-weight: 600;
  text-decoration: none;
  color: var(--ink);
}
.notice {
  border-bottom: 1px solid var(--rule);
  border-left: 4px solid transparent;
  padding: var(--s2) var(--s2) var(--s2) var(--s3);
}
.notice.unread {
  border-left-color: var(--deep);
}
.notice.unread a {
  font-weight: 600;
}
.topic {
  font-family: var(--chart);
  font-style: italic;
  color: var(--faded);
}
.waits {
  border-bottom: 1px solid var(--rule);
  padding: var(--s2) 0;
}
aside {
  border-left: 1px solid var(--rule);
  padding-left: var(--s4);
}
@media (max-width: 800px) {
  .two {
    grid-template-columns: 1fr;
  }
}
</style>
