<script setup lang="ts">
/** Steps as lines that can be edited, moved and left out, one by one. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed } from "vue";
import { lacking, takesTarget, valueOf, verbList, wayOf, ways, type Line, type Verb, type Way } from "./steps";
import { choiceOf } from "../shared/choice";

const props = defineProps<{ of?: string }>();
const of = props.of ? ` of ${props.of}` : "";
const lines = defineModel<Line[]>({ required: true });
const missing = computed(() => lines.value.map(lacking));

function put(i: number, change: Partial<Line>) {
  lines.value = lines.value.map((l, n) => (n === i ? { ...l, ...change } : l));
}
function verb(i: number, e: Event) {
  put(i, { verb: choiceOf<Verb>(e) });
}
function way(i: number, e: Event) {
  const t = lines.value[i]!.target;
  const said = t.name || t.label || t.text || t.css || "";
  const to = choiceOf<Way>(e);
  put(i, { target: to === "role" ? { role: "button", name: said } : { [to]: said } });
}
function move(i: number, by: number) {
  const next = [...lines.value];
  next.splice(i + by, 0, ...next.splice(i, 1));
  lines.value = next;
}
function add(i: number) {
  const next = [...lines.value];
  next.splice(i, 0, { verb: "click", target: { role: "button", name: "" }, value: "" });
  lines.value = next;
}
</script>

<template>
  <ol v-if="lines.length" class="lines">
    <li v-for="(l, i) in lines" :key="i">
      <div class="line">
        <select :value="l.verb" :aria-label="`What step ${i + 1} does${of}`" @change="verb(i, $event)">
          <option v-for="v in verbList" :key="v.verb" :value="v.verb">{{ v.says }}</option>
        </select>
        <template v-if="takesTarget(l.verb)">
          <select :value="wayOf(l.target)" :aria-label="`How step ${i + 1} names it${of}`" @change="way(i, $event)">
            <option v-for="w in ways" :key="w.way" :value="w.way">{{ w.says }}</option>
          </select>
          <template v-if="wayOf(l.target) === 'role'">
            <InputText
              :model-value="l.target.role"
              size="small"
              class="short"
              :aria-label="`Role in step ${i + 1}${of}`"
              placeholder="button"
              @update:model-value="put(i, { target: { ...l.target, role: $event } })"
            />
            <InputText
              :model-value="l.target.name"
              size="small"
              :aria-label="`Name in step ${i + 1}${of}`"
              placeholder="its name"
              @update:model-value="put(i, { target: { ...l.target, name: $event } })"
            />
          </template>
          <InputText
            v-else
            :model-value="l.target[wayOf(l.target)]"
            size="small"
            :aria-label="`Element of step ${i + 1}${of}`"
            @update:model-value="put(i, { target: { ...l.target, [wayOf(l.target)]: $event } })"
          />
        </template>
        <InputText
          v-if="valueOf(l.verb)"
          :model-value="l.value"
          size="small"
          :aria-label="`Value of step ${i + 1}${of}`"
          :type="l.secret ? 'password' : 'text'"
          :autocomplete="l.secret ? 'new-password' : 'off'"
          :placeholder="l.secret ? 'unchanged' : valueOf(l.verb)"
          @update:model-value="put(i, { value: $event ?? '' })"
        />
        <label v-if="l.verb === 'fill'" class="small" title="Never shown again, not in evidence and not in any file"
          ><input
            type="checkbox"
            :checked="!!l.secret"
            :aria-label="`Step ${i + 1} fills in a secret${of}`"
            @change="put(i, { secret: ($event.target as HTMLInputElement).checked, value: '' })"
          />
          secret</label
        >
        <span class="acts">
          <Button
            size="small"
            text
            label="↑"
            :aria-label="`Move step ${i + 1} up${of}`"
            :disabled="!i"
            @click="move(i, -1)"
          />
          <Button
            size="small"
            text
            label="↓"
            :aria-label="`Move step ${i + 1} down${of}`"
            :disabled="i === lines.length - 1"
            @click="move(i, 1)"
          />
          <Button size="small" text label="+" :aria-label="`Add a step after step ${i + 1}${of}`" @click="add(i + 1)" />
          <Button
            size="small"
            text
            label="×"
            :aria-label="`Remove step ${i + 1}${of}`"
            @click="lines = lines.filter((_, n) => n !== i)"
          />
        </span>
      </div>
      <p v-if="missing[i]" class="small" role="alert">▲ {{ missing[i] }}</p>
    </li>
  </ol>
  <p v-else><Button size="small" outlined label="Add a step" @click="add(0)" /></p>
</template>

<style scoped>
.lines {
  margin: var(--s2) 0;
  padding-left: 2rem;
}
.lines li {
  padding: 3px 0;
  border-bottom: 1px solid var(--rule);
}
.lines p {
  margin: 2px 0 4px;
  color: var(--broken);
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: var(--s1);
  align-items: center;
}
.line > :deep(input) {
  flex: 1 1 8rem;
  min-width: 5rem;
  max-width: 22rem;
}
.line > :deep(input.short) {
  flex: 0 1 5.5rem;
}
.acts {
  margin-left: auto;
  white-space: nowrap;
}
</style>
