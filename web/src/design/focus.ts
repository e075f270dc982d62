import type { DirectiveBinding } from "vue";

/** Takes the focus when it appears, unless it is false: `autofocus` counts only for what a page begins with. */
export const vFocus = {
  mounted: (e: HTMLElement, b: DirectiveBinding<boolean | undefined>) => {
    if (b.value !== false) e.focus();
  },
};
