import { ref, watchEffect } from "vue";

const kept = "tide-marker-night";

/** Whether the night colours are shown. Follows the system until a person chooses. */
export const night = ref(
  localStorage.getItem(kept) !== null
    ? localStorage.getItem(kept) === "yes"
    : matchMedia("(prefers-color-scheme: dark)").matches,
);

watchEffect(() => document.documentElement.classList.toggle("night", night.value));

export function switchNight() {
  night.value = !night.value;
  localStorage.setItem(kept, night.value ? "yes" : "no");
}
