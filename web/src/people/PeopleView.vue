<script setup lang="ts">
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { ref } from "vue";
import { useInvitations, usePeople, usePeopleActs, useRequiredFactors, useTeamHistory } from "./queries";
import { roles, useSession, type Role } from "../api/session";
import AskState from "../shared/AskState.vue";
import OnceShown from "../shared/OnceShown.vue";
import ShowMore from "../shared/ShowMore.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import { useAsking } from "../shared/asking";
import { choiceOf } from "../shared/choice";
import CsvFoot from "../shared/CsvFoot.vue";

const ask = useAsking();
const { session } = useSession();
const { data, isPending, error, refetch } = usePeople();
const invitations = useInvitations();
const history = useTeamHistory();
const required = useRequiredFactors();
const { edit, invite, withdraw, resetFactors, requireFactors } = usePeopleActs();
const role = ref<Role>("maintainer");
const note = ref("");
const shown = ref(12);
const here = location.origin;

function require(r: Role, on: boolean) {
  const others = (required.data.value?.roles ?? []).filter((o) => o !== r);
  requireFactors.mutate(on ? [...others, r] : others);
}

function make() {
  invite.mutate({ role: role.value, note: note.value.trim() || undefined }, { onSuccess: () => (note.value = "") });
}
/** Gives somebody another role; the list says what they have when that is refused. */
function give(p: { id: number; role: Role; disabled: boolean }, e: Event) {
  const list = e.target as HTMLSelectElement;
  edit.mutate({ id: p.id, role: choiceOf<Role>(e), disabled: p.disabled }, { onError: () => (list.value = p.role) });
}
function able(p: { id: number; name: string; role: Role; disabled: boolean }) {
  const to = { id: p.id, role: p.role, disabled: !p.disabled };
  if (p.disabled) return edit.mutate(to);
  ask({
    title: `Disable ${p.name}?`,
    says: "They are signed out at once and can no longer sign in; their tokens are refused. What they did stays in the history.",
    verb: "Disable them",
    go: () => edit.mutate(to),
  });
}
</script>

<template>
  <h1>People</h1>
  <AskState :pending="isPending" :error="error" what="The people" @again="refetch()">
    <div class="two">
      <section class="stack">
        <table v-listed class="tide">
          <thead>
            <tr>
              <th>Name</th>
              <th>Role</th>
              <th>Second factor</th>
              <th>Last seen</th>
              <th><span class="visually-hidden">Actions</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="p in data" :key="p.id">
              <td>
                {{ p.name }} <span v-if="p.id === session?.person" class="faded">(you)</span>
                <p v-if="p.disabled" class="small out">disabled</p>
              </td>
              <td>
                <select :value="p.role" class="role" :aria-label="`Role of ${p.name}`" @change="give(p, $event)">
                  <option v-for="r in roles" :key="r.value">{{ r.value }}</option>
                </select>
              </td>
              <td>
                <template v-if="p.factors">
                  {{ p.factors }}
                  <Button
                    text
                    size="small"
                    label="Remove"
                    :aria-label="`Remove all second factors of ${p.name}`"
                    @click="
                      ask({
                        title: `Remove all second factors of ${p.name}?`,
                        says: 'They sign in with their password alone until they add one again. It is recorded in the history.',
                        verb: 'Remove them',
                        go: () => resetFactors.mutate(p.id),
                      })
                    "
                  />
                </template>
                <span v-else class="faded">none</span>
              </td>
              <td><When v-if="p.seenAt" :at="p.seenAt" /><span v-else class="faded">never</span></td>
              <td>
                <div class="row acts">
                  <Button
                    text
                    size="small"
                    :label="p.disabled ? 'Enable' : 'Disable'"
                    :aria-label="`${p.disabled ? 'Enable' : 'Disable'}: ${p.name}`"
                    @click="able(p)"
                  />
                  <Button
                    text
                    size="small"
                    label="New password"
                    :aria-label="`A link for a new password: ${p.name}`"
                    @click="invite.mutate({ role: p.role, person: p.id })"
                  />
                </div>
              </td>
            </tr>
          </tbody>
          <CsvFoot />
        </table>
        <Trouble :error="history.error.value ?? required.error.value" />
        <Trouble :error="edit.error.value ?? resetFactors.error.value ?? requireFactors.error.value" />
        <section v-if="required.data.value">
          <h2>Second factor required for</h2>
          <p class="small faded">People without one are asked to add it at their next click.</p>
          <div class="row">
            <label v-for="r in roles" :key="r.value" class="choice">
              <input
                type="checkbox"
                :checked="required.data.value.roles.includes(r.value)"
                @change="require(r.value, ($event.target as HTMLInputElement).checked)"
              />
              {{ r.value }}s
            </label>
          </div>
        </section>
        <section v-if="history.data.value?.length">
          <h2>What happened</h2>
          <ul class="plain-list small">
            <li v-for="e in history.data.value.slice(0, shown)" :key="e.id">
              <When :at="e.at" /> <b>{{ e.who }}</b> {{ e.text }}
            </li>
          </ul>
          <ShowMore v-model="shown" :of="history.data.value.length" what="entries" />
        </section>
      </section>
      <section class="sheet stack">
        <h2>Invite somebody</h2>
        <form class="stack" @submit.prevent="make">
          <div>
            <label for="note">Name, for the record</label>
            <InputText id="note" v-model="note" fluid maxlength="200" />
          </div>
          <fieldset class="stack">
            <legend>As</legend>
            <label v-for="r in roles" :key="r.value" class="choice">
              <input v-model="role" type="radio" name="role" :value="r.value" />
              <span
                ><b>{{ r.value }}</b> <span class="faded">{{ r.may }}</span></span
              >
            </label>
          </fieldset>
          <Button type="submit" label="Create a link" :loading="invite.isPending.value" />
          <Trouble :error="invite.error.value" />
        </form>
        <OnceShown
          v-if="invite.data.value"
          :key="invite.data.value.link"
          :value="here + invite.data.value.link"
          what="Send this link to them. It works once, within seven days, and is not shown again."
        />
        <Trouble :error="invitations.error.value ?? withdraw.error.value" />
        <template v-if="invitations.data.value?.length">
          <h3>Not used yet</h3>
          <ul class="plain-list small">
            <li v-for="i in invitations.data.value" :key="i.id" class="spread">
              <span
                >{{ i.for || i.note || "somebody" }}, {{ i.for ? "a new password" : i.role }}, until
                <When :at="i.expiresAt"
              /></span>
              <Button
                text
                size="small"
                label="Withdraw"
                @click="
                  ask({
                    title: `Withdraw the invitation of ${i.for || i.note || 'somebody'}?`,
                    says: 'Its link stops working at once and cannot be made to work again. Another can be created.',
                    verb: 'Withdraw it',
                    go: () => withdraw.mutate(i.id),
                  })
                "
              />
            </li>
          </ul>
        </template>
      </section>
    </div>
  </AskState>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1.6fr 1fr;
  gap: var(--s5);
  margin-top: var(--s3);
  align-items: start;
}
td {
  vertical-align: middle;
}
.role {
  width: 10.5rem;
}
.acts {
  justify-content: flex-end;
  gap: 0;
}
fieldset {
  border: 0;
  padding: 0;
  margin: 0;
  gap: var(--s2);
}
.choice {
  display: flex;
  gap: var(--s2);
  align-items: baseline;
}
.out {
  color: var(--broken);
  font-weight: 600;
}
@media (max-width: 900px) {
  .two {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
