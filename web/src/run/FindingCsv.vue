<script setup lang="ts">
/** All findings of a run as a file. */
import { csv, saveCsv } from "../shared/csv";
import { kindNames } from "./findings";
import type { Run } from "./queries";

const props = defineProps<{ run: Run }>();
function save() {
  const rows = props.run.findings.map((f) => [
    String(f.id),
    f.severity,
    f.state,
    kindNames[f.kind] ?? f.kind,
    f.title,
    f.page,
    f.persona,
    f.device,
    f.detail ?? "",
    f.acceptedWhy ?? "",
  ]);
  const head = ["id", "severity", "state", "kind", "title", "page", "persona", "device", "detail", "accepted because"];
  saveCsv(`findings-of-run-${props.run.id}`, csv([head, ...rows]));
}
</script>

<template>
  <p><button type="button" class="as-link small" @click="save">All findings as CSV</button></p>
</template>
