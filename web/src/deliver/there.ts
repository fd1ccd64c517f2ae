import type { Schemas } from "../client/client";

/** Where a table lies that is judged there, and none of whose rows were taken. */
export type There = {
  database: string;
  server: string;
  schema?: string;
  table?: string;
  query?: string;
  rows: number;
  digest: string;
  digest_by: string;
  columns: { name: string; type: string }[];
};

export const liesThere = (t: Schemas["Table"]) => (t.source as { in_place?: There } | null)?.in_place;

/** The views of a table that do without its rows. */
export const viewsThere = ["columns", "findings", "rows", "missing", "compare", "certificate", "source"];
