import type { Schemas } from "../../client/client";

/** A correlation with its sign, to three digits. */
export const signed = (r: number | null | undefined) =>
  r == null ? "" : `${r > 0 ? "+" : r < 0 ? "−" : ""}${Math.abs(r).toFixed(3)}`;

/** What the rows of a table run along. */
export const alongOf = (c: Schemas["Correlations"]) => c.along || "the order of the rows";
