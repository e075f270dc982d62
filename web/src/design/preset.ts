import { definePreset } from "@primeuix/themes";
import Aura from "@primeuix/themes/aura";

/**
 * The components' look: paper and ink of a sea chart. Colours are those of tokens.css,
 * so that light and dark are said in one place.
 */
const ink = {
  50: "#eef3f5",
  100: "#d6e2e7",
  200: "#adc5cf",
  300: "#7fa4b3",
  400: "#4f8196",
  500: "#1d4a60",
  600: "#194155",
  700: "#153748",
  800: "#102b39",
  900: "#0c202b",
  950: "#08161e",
};

export const Chart = definePreset(Aura, {
  primitive: { borderRadius: { none: "0", xs: "1px", sm: "2px", md: "2px", lg: "3px", xl: "3px" } },
  semantic: {
    primary: ink,
    focusRing: { width: "2px", style: "solid", color: "var(--focus)", offset: "2px" },
    formField: { paddingX: "0.6rem", paddingY: "0.4rem", borderRadius: "2px" },
    colorScheme: {
      light: {
        primary: { color: "#1d4a60", contrastColor: "#fbf8f0", hoverColor: "#153748", activeColor: "#102b39" },
        surface: {
          0: "#fffdf7",
          50: "#fbf8f0",
          100: "#f4efe2",
          200: "#e6dfcc",
          300: "#cfc5ab",
          400: "#a99f87",
          500: "#7d7665",
          600: "#5d5a50",
          700: "#43454a",
          800: "#2c343b",
          900: "#1d2a33",
          950: "#121c23",
        },
        formField: {
          invalidBorderColor: "#9a1552",
          borderColor: "#8d8570",
          color: "#1d2a33",
          placeholderColor: "#5d5a50",
        },
        text: { color: "#1d2a33", mutedColor: "#5d5a50" },
      },
      dark: {
        primary: { color: "#9cc8da", contrastColor: "#0f1a21", hoverColor: "#b9dae7", activeColor: "#d3e8f0" },
        surface: {
          0: "#f1ecdf",
          50: "#ded9cb",
          100: "#c3c3ba",
          200: "#a4abab",
          300: "#86929a",
          400: "#6b7a84",
          500: "#50606b",
          600: "#3b4a55",
          700: "#2a3842",
          800: "#1e2a33",
          900: "#17222a",
          950: "#101a21",
        },
        formField: {
          invalidBorderColor: "#f29ac0",
          background: "#101a21",
          borderColor: "#6b7a84",
          color: "#e4dfd1",
          placeholderColor: "#a4abab",
        },
        text: { color: "#e4dfd1", mutedColor: "#a9b0b0" },
      },
    },
  },
  components: {
    button: { root: { paddingX: "0.85rem", paddingY: "0.42rem", label: { fontWeight: "600" } } },
    dialog: { root: { borderRadius: "3px" }, header: { padding: "1rem 1.25rem 0.5rem" } },
    // 3:1 at least against the paper, also when it is off (WCAG 2.2, 1.4.11).
    toggleswitch: {
      colorScheme: {
        light: { root: { background: "{surface.500}", hoverBackground: "{surface.600}" } },
        dark: {
          root: { background: "{surface.400}", hoverBackground: "{surface.300}" },
          handle: { background: "{surface.950}", hoverBackground: "{surface.950}" },
        },
      },
    },
    progressbar: { root: { height: "10px", borderRadius: "0" } },
  },
});
