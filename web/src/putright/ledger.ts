import type { Schemas } from "../client/client";

// What a run of a fix plan says of itself, as the records of cleaned tables and the results of previews have it.

export type Sums = Record<string, string>;

export type Refusal = {
  why: string;
  rows: number;
  places: { row: number; line?: number; column?: string; text: string }[];
};

export type Undecided = {
  key: Record<string, string>;
  column: string;
  choices: { text: string; rows: number; row: number }[];
};

export type LedgerStep = {
  step: number;
  kind: string;
  reason: string;
  off?: boolean;
  cells: number;
  rows: number;
  rows_before?: number;
  rows_made?: number;
  sums: Sums;
  columns?: { name: string; from?: string }[];
  refused?: Refusal[];
  undecided?: Undecided[];
  open?: number;
  examples?: Schemas["LogEntry"][];
  note?: string;
  estimated?: Estimated;
};

/** What a step estimated, and what that means for the column. */
export type Estimated = {
  column: string;
  method: string;
  seed: number;
  draws: number;
  observed: number;
  donors?: number;
  filled: number;
  open: number;
  mean_observed?: number;
  mean_then?: number;
  mean_from?: number;
  mean_to?: number;
  warnings?: string[];
};

export type Ledger = {
  rows_in: number;
  rows_out: number;
  sums_in: Sums;
  sums_out: Sums;
  steps: LedgerStep[];
  columns?: string[];
  /** Of earlier versions: cells that were put in standard form without a step. */
  written?: Record<string, number>;
  unheaded: number;
  /** Cells of the cleaned table that are estimates, per column. */
  estimates?: Record<string, number>;
};

export type Preview = {
  ledger: Ledger;
  change_count: number;
  /** Steps that touch another share than on the delivery before. */
  since?: { step: number; kind: string; touched: number; before: number; stops: boolean }[];
  before: Schemas["Result"];
  after: Schemas["Result"];
  /** The merges that take the table, with what they did and would do. */
  merges?: {
    merge: string;
    now?: { rows: number; sums: Sums };
    then?: { rows: number; sums: Sums; joins: { with: string; unmatched: number }[] };
    refused?: string;
  }[];
};

export const stepName = (kind: string) => kind.replaceAll("_", " ");
