<script setup lang="ts">
/** What was predicted of a run's settings, and what became of each. */
import { useRunPredictions } from "./queries";
import StateGlyph from "../shared/StateGlyph.vue";
import { pagesOf } from "../change/prediction";
import CsvFoot from "../shared/CsvFoot.vue";

const props = defineProps<{ run: number }>();
const { data: record } = useRunPredictions(
  () => props.run,
  () => true,
);
const outcomes: Record<string, string> = { right: "came", wrong: "did not happen", "not seen": "not looked at" };
</script>

<template>
  <section v-if="record && ((record.held ?? []).length || (record.missed ?? []).length)">
    <h2>What was predicted</h2>
    <table v-listed class="tide">
      <thead>
        <tr>
          <th>Predicted from the mark</th>
          <th>Result</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="h in record.held ?? []" :key="h.key + h.kind + h.about">
          <td>
            <b>{{ h.setting || h.key }}:</b> {{ h.title }}<br /><span class="small faded">{{
              pagesOf(h).slice(0, 8).join(", ")
            }}</span>
          </td>
          <td>
            <StateGlyph :state="h.outcome" :word="outcomes[h.outcome]" /><br v-if="h.finding" /><span
              class="small faded"
              >{{ h.finding }}</span
            >
          </td>
        </tr>
        <tr v-for="m in record.missed ?? []" :key="m">
          <td class="faded">Nothing</td>
          <td>
            <StateGlyph state="missed" word="found, not predicted" /><br /><span class="small faded">{{ m }}</span>
          </td>
        </tr>
      </tbody>
      <CsvFoot />
    </table>
  </section>
</template>
