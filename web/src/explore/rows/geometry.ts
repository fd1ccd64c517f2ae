import type { Schemas } from "../../client/client";

// How large the parts of the grid are, in pixels.

export const rowHeight = 33;
export const headHeight = 56;
/** The column with the numbers of the rows. */
export const headWidth = 104;
/** The column with the rules that caught a row. */
export const caughtWidth = 260;
/** Browsers draw no element taller than some thirty million pixels. */
export const tallest = 8_000_000;

const character = 7.6;

/** How wide a column is that nobody made wider: as its name, its type and its first values need, within bounds. */
export function widthOf(name: string, at: number, page: Schemas["RowsPage"]): number {
  const signs = (r: Schemas["ShownRow"]) =>
    (r.caught.some((x) => x.columns.includes(name)) ? 2 : 0) + (r.estimated?.includes(name) ? 2 : 0);
  const longest = page.rows.reduce((most, r) => Math.max(most, (r.cells[at] ?? "").length + signs(r)), 0);
  return Math.round(Math.min(Math.max(longest * character + 24, name.length * character + 56, 90), 260));
}

/** How many rows are asked for at a time. */
export const pageRows = 100;
