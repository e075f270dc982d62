<script setup lang="ts">
/** How a change comes to production: what the calendar says, who approves it, and what else goes out. */
import Button from "primevue/button";
import Textarea from "primevue/textarea";
import { computed, ref } from "vue";
import { useChangeActs, type Change } from "./queries";
import { useSession } from "../api/session";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";

const props = defineProps<{ change: Change }>();
const acts = useChangeActs();
const { may } = useSession();
const a = computed(() => props.change.approval);
const open = computed(() => ["asked", "questioned", "approved"].includes(a.value.state));
/** There is something to approve: it was checked, and can be promoted but for the calendar or for who may. */
const shown = computed(() => open.value || (!a.value.whyNotAsk && props.change.state === "checked") || told.value);
const told = computed(() => props.change.state === "checked" && ["refused", "withdrawn"].includes(a.value.state));

type Act = "ask" | "approve" | "go" | "refuse" | "question" | "despite";
const doing = ref<Act>();
const words = ref("");
const forms: Record<Act, { label: string; verb: string; needed: boolean }> = {
  ask: { label: "What should the approver know?", verb: "Request approval", needed: true },
  approve: { label: "Comment (optional)", verb: "Approve", needed: false },
  go: { label: "Comment (optional)", verb: "Approve and promote when allowed", needed: false },
  refuse: { label: "Why is it refused?", verb: "Refuse", needed: true },
  question: { label: "What is your question?", verb: "Ask", needed: true },
  despite: { label: "Why is it promoted anyway? Recorded in the history.", verb: "Promote now", needed: true },
};
function begin(act: Act) {
  words.value = "";
  doing.value = act;
}
async function go() {
  const v = { change: props.change.id, words: words.value.trim() };
  switch (doing.value) {
    case "ask":
      await acts.askApproval.mutateAsync(v);
      break;
    case "despite":
      await acts.despite.mutateAsync({
        ...v,
        act: props.change.choices.some((c) => c.event === "tidy") ? "tidy" : "promote",
      });
      break;
    case "refuse":
    case "question":
      await acts.decide.mutateAsync({ ...v, decision: doing.value });
      break;
    default:
      await acts.decide.mutateAsync({ ...v, decision: "approve", goes: doing.value === "go" });
  }
  doing.value = undefined;
}
const busy = computed(() =>
  [acts.askApproval, acts.despite, acts.decide, acts.withdraw].some((m) => m.isPending.value),
);
const trouble = computed(
  () =>
    acts.askApproval.error.value ?? acts.despite.error.value ?? acts.decide.error.value ?? acts.withdraw.error.value,
);
</script>

<template>
  <section v-if="shown || a.calendar" class="stack" aria-label="Approval">
    <p v-if="a.calendar" class="small">
      <RouterLink :to="`/sites/${change.site}/calendar`">See the calendar</RouterLink>
    </p>
    <template v-if="open || told">
      <p class="said" :class="a.state">
        <strong v-if="a.state === 'asked'">Approval requested.</strong>
        <strong v-else-if="a.state === 'questioned'">{{ a.decidedBy }} asked a question.</strong>
        <strong v-else-if="a.state === 'approved'">Approved by {{ a.decidedBy }}.</strong>
        <strong v-else-if="a.state === 'refused'">Refused by {{ a.decidedBy }}.</strong>
        <strong v-else>The approval was withdrawn.</strong>
        <template v-if="a.reason"> {{ a.reason }}</template>
        <span v-if="a.words" class="small">“{{ a.words }}”</span>
        <span class="small faded">requested by {{ a.askedBy }}, <When :at="a.askedAt" short /></span>
        <span v-if="a.goes" class="small">
          It is promoted automatically<template v-if="a.opens">
            from <When :at="a.opens" /> on, unless something changes before</template
          ><template v-else> in a moment</template>.
          <template v-if="a.waits && a.waits !== a.calendar">It waits: {{ a.waits }}</template>
        </span>
      </p>
    </template>
    <form v-if="doing" class="stack" @submit.prevent="go">
      <label for="approval-words" class="small">{{ forms[doing].label }}</label>
      <Textarea id="approval-words" v-model="words" v-focus rows="3" maxlength="1000" />
      <div class="row">
        <Button
          type="submit"
          size="small"
          :label="forms[doing].verb"
          :disabled="forms[doing].needed && !words.trim()"
          :loading="busy"
        />
        <Button size="small" text label="Cancel" @click="doing = undefined" />
      </div>
    </form>
    <div v-else class="row acts">
      <template v-if="may('decide')">
        <Button
          v-if="!a.whyNotDecide && a.state !== 'approved'"
          size="small"
          :outlined="!open"
          label="Approve"
          @click="begin('approve')"
        />
        <Button
          v-if="!a.whyNotDecide && !a.goes && a.calendar"
          size="small"
          outlined
          label="Approve, promote when allowed"
          @click="begin('go')"
        />
        <template v-if="open">
          <Button size="small" outlined label="Refuse" @click="begin('refuse')" />
          <Button v-if="a.state !== 'approved'" size="small" text label="Ask a question" @click="begin('question')" />
        </template>
        <Button
          v-if="a.mayDespite && !a.whyNotDecide"
          size="small"
          text
          label="Promote despite the calendar"
          @click="begin('despite')"
        />
      </template>
      <Button
        v-if="!a.whyNotAsk && may('work') && (!may('decide') || a.whyNotDecide)"
        size="small"
        label="Request approval"
        @click="begin('ask')"
      />
      <Button
        v-if="open"
        size="small"
        text
        label="Withdraw"
        :loading="acts.withdraw.isPending.value"
        @click="acts.withdraw.mutate(change.id)"
      />
    </div>
    <p v-if="may('decide') && open && a.whyNotDecide" class="small faded">{{ a.whyNotDecide }}</p>
    <Trouble :error="trouble" />
    <div v-if="a.today.length && (open || may('decide'))">
      <h3>Also today</h3>
      <ul class="plain-list small">
        <li v-for="g in a.today" :key="g.change">
          <RouterLink :to="`/changes/${g.change}`">{{ g.title }}</RouterLink> on {{ g.siteName }},
          {{ g.done ? "promoted" : "waits for its time" }} ({{ g.who }}, <When :at="g.at" short />)
        </li>
      </ul>
    </div>
  </section>
</template>

<style scoped>
.said {
  border-left: 4px solid var(--rule-strong);
  padding: var(--s1) var(--s3);
}
.said .small {
  display: block;
}
.said.approved {
  border-color: var(--clear);
}
.said.refused {
  border-color: var(--broken);
}
.acts {
  gap: var(--s2);
}
</style>
