import type { Sums } from "../putright/ledger";

type Shared = { keys: number; rows: number; became: string };

/** What the stacked tables have in common, and which days they cover. */
export type Stack = {
  rows: number;
  sums: Sums;
  lacking: Record<string, string[]>;
  renamed?: Record<string, Record<string, string>>;
  set_aside?: number;
  sums_set_aside?: Sums;
  filled?: Record<string, number>;
  sums_filled?: Sums;
  shared?: {
    key: string[];
    equal: Shared;
    contradicting: Shared;
    examples: {
      key: string;
      differ: string[];
      rows: { dataset: string; table?: number; row: number; cells: string[] }[];
    }[];
  };
  periods?: {
    column: string;
    covered: { dataset: string; table?: number; name?: string; first: string; last: string; days: number }[];
    overlaps: { dataset: string; table?: number; name?: string; first: string; last: string; days: number }[];
    gaps: { after: string; before: string; days: number }[];
  };
};

/** What would have to be levelled for keys to meet. */
export type Why = {
  levelling: string;
  says: string;
  left?: string[];
  right?: string[];
  step?: string;
  examples: { key: string; meets: string }[];
};

/** A column that a join added: how full it is, and its sums there and after the join. */
export type Taken = { column: string; filled: number; of: number; sum_there?: string; sum_then?: string };

/** How rows of a table became others before the merge. */
export type Grain = { says: string; rows_before: number; note?: string };

/** What became of every row and sum of a merge. */
export type Accounting = {
  inputs: {
    dataset: string;
    table?: number;
    name?: string;
    rows: number;
    sums: Sums;
    set_aside?: number;
    grain?: Grain;
  }[];
  stack: Stack;
  joins: {
    with: string;
    on: string[];
    rows_in: number;
    matched: number;
    unmatched: number;
    set_aside: number;
    multiplied: number;
    rows_out: number;
    joined_rows: number;
    joined_unused: number;
    beside?: string;
    outside?: number;
    unplaced?: number;
    grain?: Grain;
    sums_out: Sums;
    sums_set_aside: Sums;
    sums_multiplied: Sums;
    blank?: number;
    added?: number;
    chosen?: number;
    tied?: number;
    taken?: Taken[];
    why?: Why[];
    misses: { key: string; rows: number; close?: string }[];
    misses_more?: number;
    misses_cut?: boolean;
  }[];
  rows: number;
  sums: Sums;
  unmet?: number;
};
