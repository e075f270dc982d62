<script setup lang="ts">
/** How notices reach somebody: by topic, for all sites or one; where mail goes; a feed. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref, watch } from "vue";
import { useNoticeActs, useNoticeChoices, type Choice } from "./queries";
import { useSites } from "../site/queries";
import AskState from "../shared/AskState.vue";
import { chosen, howWord } from "./notices";
import OnceShown from "../shared/OnceShown.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import { useAsking } from "../shared/asking";
import { counted } from "../shared/wording";
import { choiceOf } from "../shared/choice";

const ask = useAsking();
function makeFeed() {
  if (!data.value?.feed) return acts.makeFeed.mutate();
  ask({
    title: "Replace the address of your feed?",
    says: "The address that programs read now stops working, and is not shown again.",
    verb: "Replace it",
    go: () => acts.makeFeed.mutate(),
  });
}
const { data, isPending, error, refetch } = useNoticeChoices();
const { data: sites } = useSites("", false, "name", 0);
const acts = useNoticeActs();
const site = ref(0);
const ways: Choice["how"][] = ["default", "at once", "daily", "here", "never"];
const word = (how: Choice["how"], otherwise: Choice["how"]) =>
  how === "default" ? `${site.value ? "as for all sites" : "as usual"} (${howWord[otherwise]})` : howWord[how];

const mail = ref("");
const dailyAt = ref("08:00");
const zone = ref("UTC");
function reset() {
  mail.value = data.value?.mail ?? "";
  dailyAt.value = data.value?.dailyAt ?? "08:00";
  zone.value = data.value?.zone ?? "UTC";
}
watch(data, reset, { immediate: true });
const here = Intl.DateTimeFormat().resolvedOptions().timeZone;
const changed = computed(
  () =>
    data.value &&
    (mail.value !== data.value.mail || dailyAt.value !== data.value.dailyAt || zone.value !== data.value.zone),
);
const feed = computed(() => {
  const made = acts.makeFeed.data.value?.feed?.address;
  return made ? location.origin + made : "";
});
</script>

<template>
  <AskState :pending="isPending" :error="error" what="What you chose" @again="refetch()">
    <div v-if="data" class="two">
      <section class="stack">
        <div class="row">
          <label for="choice-site">For</label>
          <select id="choice-site" v-model.number="site">
            <option :value="0">all sites</option>
            <option v-for="s in sites?.sites ?? []" :key="s.id" :value="s.id">{{ s.name }} only</option>
          </select>
        </div>
        <table class="sheet">
          <thead>
            <tr>
              <th scope="col">When</th>
              <th scope="col">How it reaches you</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="t in data.topics" :key="t.topic">
              <td>
                <label :for="`how-${t.topic}`">{{ t.text }}</label>
              </td>
              <td>
                <select
                  :id="`how-${t.topic}`"
                  :value="chosen(data, site, t.topic as Choice['topic']).how"
                  :disabled="acts.choose.isPending.value"
                  @change="
                    acts.choose.mutate({
                      site: site || undefined,
                      topic: t.topic as Choice['topic'],
                      how: choiceOf<Choice['how']>($event),
                    })
                  "
                >
                  <option v-for="w in ways" :key="w" :value="w">
                    {{ word(w, chosen(data, site, t.topic as Choice["topic"]).otherwise) }}
                  </option>
                </select>
              </td>
            </tr>
          </tbody>
        </table>
        <p class="small faded">
          Several notices at once are sent as one mail. You get none about what you did yourself.
        </p>
        <Trouble :error="acts.choose.error.value" />
      </section>
      <section class="stack">
        <form class="stack" @submit.prevent="acts.reach.mutate({ mail: mail.trim(), dailyAt, zone })">
          <h2>Mail</h2>
          <p v-if="!data.sends" class="small late">
            No mail server is set up, so mails wait. Set TIDEMARKER_MAIL on the server.
          </p>
          <label for="reach-mail" class="small">Your address; empty for no mail</label>
          <InputText id="reach-mail" v-model="mail" type="email" size="small" autocomplete="email" />
          <div class="row">
            <label for="reach-at" class="small">Daily mail at</label>
            <input id="reach-at" v-model="dailyAt" type="time" required />
            <InputText v-model="zone" size="small" aria-label="Time zone" list="zones" class="zone" />
          </div>
          <p v-if="here && here !== zone" class="small">
            <Button size="small" text :label="`This browser is in ${here}`" @click="zone = here" />
          </p>
          <Trouble :error="acts.reach.error.value" />
          <div v-if="changed" class="row">
            <Button type="submit" size="small" label="Save" :loading="acts.reach.isPending.value" />
            <Button size="small" text label="Cancel" @click="reset" />
          </div>
        </form>
        <div v-if="data.mails.length">
          <h3>Mails to you</h3>
          <ul class="plain-list">
            <li v-for="m in data.mails" :key="m.made" class="small">
              <When :at="m.sent ?? m.made" short />: {{ counted(m.notices, "notice")
              }}<template v-if="m.daily">, of the day</template>,
              {{ m.state === "to send" ? "to be sent" : m.state }}
              <template v-if="m.why">({{ m.why }})</template>
            </li>
          </ul>
        </div>
        <h2>Feed</h2>
        <p class="small faded">
          <template v-if="data.feed">
            Your feed has an address since <When :at="data.feed.madeAt" short />;
            <template v-if="data.feed.usedAt">last read <When :at="data.feed.usedAt" short />.</template>
            <template v-else>not read yet.</template>
          </template>
          <template v-else>A feed reader (Atom) can show your notices.</template>
        </p>
        <OnceShown
          v-if="feed"
          :value="feed"
          what="Anybody who has this address can read your notices. It is shown only now."
        />
        <div class="row">
          <Button
            size="small"
            outlined
            :label="data.feed ? 'Replace the address' : 'Create an address'"
            :loading="acts.makeFeed.isPending.value"
            @click="makeFeed"
          />
          <Button
            v-if="data.feed"
            size="small"
            text
            label="Remove"
            @click="
              ask({
                title: 'Remove the address of your feed?',
                says: 'Programs that read it will get nothing.',
                verb: 'Remove it',
                go: () => acts.removeFeed.mutate(),
              })
            "
          />
        </div>
        <Trouble :error="acts.makeFeed.error.value ?? acts.removeFeed.error.value" />
      </section>
    </div>
  </AskState>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1.4fr) minmax(0, 1fr);
  gap: var(--s5);
  margin-top: var(--s3);
}
.sheet {
  width: 100%;
  border-collapse: collapse;
}
.sheet th,
.sheet td {
  text-align: left;
  border-bottom: 1px solid var(--rule);
  padding: 5px var(--s2);
}
.zone {
  width: 11rem;
}
.late {
  color: var(--unsure);
}
@media (max-width: 800px) {
  .two {
    grid-template-columns: 1fr;
  }
}
</style>
