import { createSystem, defaultConfig, defineConfig } from "@chakra-ui/react";

// Our look, in one place. Warm paper and ink in light, deep slate in dark; one
// accent for what can be pressed; one colour for each dimension of quality, told
// apart with every kind of colour vision and never without its pattern.
const both = (light: string, dark: string) => ({ value: { base: light, _dark: dark } });

const some = <T extends object>(of: T | undefined, names: string[]) =>
  Object.fromEntries(Object.entries(of ?? {}).filter(([name]) => names.includes(name))) as Partial<T>;

const { theme } = defaultConfig;

/** Of Chakra's own styles only those of the components that are used: the others would be worked out at every start. */
const used = {
  ...defaultConfig,
  theme: {
    ...theme,
    recipes: some(theme?.recipes, ["button", "heading", "input", "textarea", "spinner"]),
    slotRecipes: some(theme?.slotRecipes, ["nativeSelect", "dialog", "popover", "progress", "toast", "list"]),
    tokens: {
      ...theme?.tokens,
      colors: some(theme?.tokens?.colors, [
        "transparent",
        "current",
        "black",
        "white",
        "whiteAlpha",
        "blackAlpha",
        "gray",
      ]),
    },
    semanticTokens: {
      ...theme?.semanticTokens,
      colors: some(theme?.semanticTokens?.colors, ["bg", "fg", "border", "gray"]),
    },
  },
} as typeof defaultConfig;

export const system = createSystem(
  used,
  defineConfig({
    globalCss: {
      "html, body": {
        bg: "paper",
        color: "ink",
        fontSize: "15px",
        lineHeight: "1.4",
        // What is scrolled to is not beneath a bar that sticks to the bottom.
        scrollPaddingBottom: "140px",
        _print: { bg: "white", color: "black", fontSize: "11px" },
      },
      "*:focus-visible": { outline: "2px solid", outlineColor: "accent", outlineOffset: "1px" },
      a: { color: "accent", textUnderlineOffset: "2px" },
      "a:hover, main a": { textDecoration: "underline" },
      "main nav a:not(:hover)": { textDecoration: "none" },
      "*, *::before, *::after": {
        _motionReduce: { animationDuration: "0s !important", transitionDuration: "0s !important" },
      },
      // On paper there is nothing to press, and nothing to scroll.
      "header, nav, button, form, select, summary, [role=dialog], .code": {
        _print: { display: "none !important" },
      },
      "main *": { _print: { maxHeight: "none !important", overflow: "visible !important" } },
      "main th": { _print: { position: "static !important" } },
      "main tr, main svg": { _print: { breakInside: "avoid" } },
      // The cells of the grid of rows are many, and plain elements.
      "td.cell": {
        px: "2",
        py: "1.5",
        borderBottomWidth: "1px",
        borderColor: "line",
        verticalAlign: "top",
        bg: "paper",
        whiteSpace: "nowrap",
        overflow: "hidden",
        textOverflow: "ellipsis",
      },
      "td.cell.pinned": { position: "sticky", bg: "sheet", zIndex: "1" },
      "td.cell.row": { position: "sticky", left: "0", zIndex: "1", color: "quiet", textAlign: "right" },
      "td.cell.row.chosen": { bg: "calm" },
      "td.cell.row label": { display: "flex", justifyContent: "space-between", gap: "2" },
      "td.cell.rules": { fontFamily: "mono", fontSize: "sm" },
      "td.cell .nothing": { color: "quiet" },
      "td.cell.estimated": { fontStyle: "italic" },
      "td.cell.number": { textAlign: "right" },
      "td.cell.caught": { boxShadow: "inset 0 -2px 0 currentColor" },
      "td.cell.completeness": { color: "completeness" },
      "td.cell.validity": { color: "validity" },
      "td.cell.uniqueness": { color: "uniqueness" },
      "td.cell.consistency": { color: "consistency" },
      ".value": { fontFamily: "mono", fontSize: "0.87em", whiteSpace: "pre" },
      table: { borderCollapse: "separate", borderSpacing: "0", fontVariantNumeric: "tabular-nums" },
    },
    theme: {
      tokens: {
        fonts: {
          body: { value: "'Source Sans 3 Variable', sans-serif" },
          heading: { value: "'Source Sans 3 Variable', sans-serif" },
          mono: { value: "'IBM Plex Mono', monospace" },
        },
      },
      semanticTokens: {
        colors: {
          paper: both("#f5f1e8", "#181e24"),
          sheet: both("#fcfaf5", "#20272e"),
          sunken: both("#ebe5d8", "#12171c"),
          ink: both("#24221e", "#e9e6de"),
          quiet: both("#5f594d", "#a9b0b5"),
          line: both("#d8d0c0", "#38424b"),
          accent: both("#1d5a70", "#83c9e0"),
          accentInk: both("#fcfaf5", "#12171c"),
          calm: both("#cfc6b4", "#424d57"),
          completeness: both("#2b5cae", "#8fb6f7"),
          validity: both("#ad3a17", "#f29a73"),
          uniqueness: both("#7b3b91", "#d3a3e6"),
          consistency: both("#765900", "#dcbc52"),
        },
      },
    },
  }),
);
