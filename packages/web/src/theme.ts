import { type CSSVariablesResolver, createTheme, type MantineColorsTuple, Modal, PasswordInput } from "@mantine/core";

const oxide: MantineColorsTuple = [
  "#fbeeea",
  "#f3dcd5",
  "#e6b6aa",
  "#d98f7c",
  "#c96d56",
  "#ab4a37",
  "#8e3b2b",
  "#7c3325",
  "#682a1f",
  "#512118",
];

export const theme = createTheme({
  primaryColor: "oxide",
  primaryShade: { light: 6, dark: 6 },
  colors: { oxide },
  autoContrast: true,
  luminanceThreshold: 0.32,
  black: "#24201C",
  fontFamily: "'Public Sans Variable', sans-serif",
  fontFamilyMonospace: "'JetBrains Mono Variable', monospace",
  headings: { fontFamily: "'Source Serif 4 Variable', serif" },
  defaultRadius: 4,
  cursorType: "pointer",
  respectReducedMotion: true,
  components: {
    Modal: Modal.extend({ defaultProps: { closeButtonProps: { "aria-label": "Close" } } }),
    PasswordInput: PasswordInput.extend({
      defaultProps: { visibilityToggleButtonProps: { "aria-label": "Show what is typed" } },
    }),
  },
});

/** Mantine's own roles, drawn from the pigments. */
export const variables: CSSVariablesResolver = () => ({
  variables: {},
  light: {
    "--mantine-color-body": "#FFFDF9",
    "--mantine-color-text": "#24201C",
    "--mantine-color-dimmed": "#6B6258",
    "--mantine-color-placeholder": "#776D61",
    "--mantine-color-default-border": "#CFC5B4",
    "--mantine-color-error": "#B03417",
    "--mantine-color-default": "#FFFDF9",
    "--mantine-color-default-hover": "#F3EEE4",
  },
  dark: {
    "--mantine-color-body": "#26221E",
    "--mantine-color-text": "#F1EBDF",
    "--mantine-color-dimmed": "#B3A898",
    "--mantine-color-placeholder": "#A0968A",
    "--mantine-color-default-border": "#544B41",
    "--mantine-color-error": "#F58B72",
    "--mantine-color-default": "#2C2823",
    "--mantine-color-default-hover": "#38322C",
  },
});
