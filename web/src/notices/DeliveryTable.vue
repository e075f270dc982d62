<script setup lang="ts">
/** What a webhook was sent, what it answered, and sending it again. */
import Button from "primevue/button";
import { useDeliveries, useWebhookActs } from "./queries";
import AskState from "../shared/AskState.vue";
import { topicWord } from "./notices";
import StateGlyph from "../shared/StateGlyph.vue";
import When from "../shared/When.vue";

const props = defineProps<{ webhook: number }>();
const { data, isPending, error, refetch } = useDeliveries(() => props.webhook);
const acts = useWebhookActs();
const sign: Record<string, string> = { delivered: "clear", failed: "broken", "to send": "running" };
</script>

<template>
  <AskState :pending="isPending" :error="error" what="The deliveries" @again="refetch()">
    <p v-if="data && !data.deliveries.length" class="small faded">Nothing was sent to it yet.</p>
    <table v-else-if="data" class="sheet">
      <thead>
        <tr>
          <th scope="col">When</th>
          <th scope="col">Notice</th>
          <th scope="col">State</th>
          <th scope="col">Answer</th>
          <th scope="col"><span class="visually-hidden">Act</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="d in data.deliveries" :key="d.id">
          <td class="small"><When v-if="d.tried" :at="d.tried" short /><template v-else>not yet</template></td>
          <td class="small">{{ d.siteName }}, {{ topicWord[d.topic] }}: {{ d.text }}</td>
          <td><StateGlyph :state="sign[d.state]!" :word="d.state" /></td>
          <td class="small">
            <template v-if="d.status">{{ d.status }}</template> {{ d.answer }}
            <span v-if="d.tries > 1" class="faded">({{ d.tries }} tries)</span>
            <span v-if="d.next && d.tries" class="faded">again <When :at="d.next" short /></span>
          </td>
          <td>
            <Button
              v-if="d.state !== 'to send'"
              size="small"
              text
              label="Send again"
              :loading="acts.again.isPending.value && acts.again.variables.value === d.id"
              @click="acts.again.mutate(d.id)"
            />
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="data?.more" class="small faded">Older ones are in the API (list-deliveries).</p>
  </AskState>
</template>

<style scoped>
.sheet {
  width: 100%;
  border-collapse: collapse;
}
.sheet th,
.sheet td {
  text-align: left;
  vertical-align: top;
  border-bottom: 1px solid var(--rule);
  padding: 4px var(--s2);
}
</style>
