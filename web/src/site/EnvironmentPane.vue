<script setup lang="ts">
/** One environment of a site: what it has, where it can be rolled back to, and what can be done with it. */
import Button from "primevue/button";
import { useSession } from "../api/session";
import Fingerprint from "../shared/Fingerprint.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import TermHint from "../shared/TermHint.vue";
import When from "../shared/When.vue";
import type { Environment } from "./queries";

const { environment: e, site } = defineProps<{ site: number; environment: Environment }>();
defineEmits<{ mark: []; check: []; read: []; upload: []; rollBack: [mark: Environment["marks"][number]] }>();
const { may } = useSession();
</script>

<template>
  <section>
    <div class="spread">
      <h2>
        {{ e.name }}<span v-if="e.role !== e.name" class="role small">{{ e.role }}</span>
      </h2>
      <a :href="e.url" target="_blank" rel="noreferrer" class="small">{{ e.url }}</a>
    </div>
    <p class="small">
      <Fingerprint :value="e.fingerprint" /> <span v-if="e.readAt" class="faded">read <When :at="e.readAt" /></span>
    </p>
    <p v-if="e.connector && !e.able.applies" class="small">
      Changed by hand: a change becomes a checklist.
      <template v-if="!e.fingerprint">Export its settings in its own administration, and upload the file.</template>
    </p>
    <p v-if="!e.marks.length" class="callout unsure none">
      No <TermHint of="mark">mark</TermHint> yet: there is nothing to roll back to.
    </p>
    <ul v-else class="plain-list">
      <li v-for="m in e.marks.slice(0, 3)" :key="m.id" class="mark">
        <RouterLink :to="`/runs/${m.run}`">Mark {{ m.id }}</RouterLink>
        <span class="small"
          ><Fingerprint :value="m.fingerprint" /> · <When :at="m.takenAt" short />
          <span v-if="m.browser" class="faded drawn">rendered by {{ m.browser }}</span></span
        >
        <StateGlyph v-if="m.fingerprint === e.fingerprint" state="clear" word="in force" />
        <Button
          v-else-if="may('work')"
          label="Roll back"
          :aria-label="`Roll back ${e.name} to mark ${m.id}`"
          size="small"
          text
          @click="$emit('rollBack', m)"
        />
      </li>
    </ul>
    <p v-if="e.marks.length > 3" class="small">
      <RouterLink :to="`/sites/${site}/marks?environment=${e.id}`">All marks</RouterLink>
    </p>
    <p v-if="e.redrawn" class="callout unsure none">{{ e.redrawn }}</p>
    <div v-if="may('work')" class="row acts">
      <Button
        :label="e.marks.length ? 'Take another mark' : 'Take the first mark'"
        size="small"
        :outlined="e.marks.length > 0 && !e.redrawn"
        @click="$emit('mark')"
      />
      <Button v-if="e.marks.length" label="Check now" size="small" outlined @click="$emit('check')" />
      <Button
        v-if="e.connector && !e.able.reads"
        label="Upload settings"
        size="small"
        :outlined="!!e.fingerprint"
        @click="$emit('upload')"
      />
      <Button v-else label="Read settings" size="small" text @click="$emit('read')" />
    </div>
  </section>
</template>

<style scoped>
.mark {
  display: flex;
  gap: var(--s2);
  align-items: center;
  justify-content: space-between;
  border-bottom: 1px solid var(--rule);
  padding: 5px 0;
  min-height: 38px;
}
.mark a {
  white-space: nowrap;
}
.drawn {
  display: block;
}
.acts {
  margin-top: var(--s2);
  gap: var(--s2);
}
.none {
  margin-top: var(--s2);
}
.role {
  margin-left: var(--s2);
  color: var(--faded);
}
</style>
