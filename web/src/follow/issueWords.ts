import type { Schemas } from "../client/client";

/** How an issue ended, in words. */
export const endedWord: Record<string, string> = {
  corrected: "corrected by who delivers",
  put_right: "put right here",
  accepted: "accepted as it is",
  withdrawn: "withdrawn with what it was found in",
  rule_changed: "the rule was changed",
};

/** The state of an issue, and how it ended where it did. */
export const standing = (i: Schemas["Issue"]) =>
  i.state === "closed" && i.ended ? `closed: ${endedWord[i.ended]}` : i.state;

/** For how long a waiver holds. */
export const howLong = (w: Schemas["Waiver"]) =>
  w.until ? `until ${w.until}` : w.table_id ? `for the delivery of table ${w.table_id} alone` : "for good";

/** Answers that can be given, in words. */
export const answerWord: Record<string, string> = {
  wrong: "wrong",
  meant_so: "meant so",
  unknown: "cannot tell",
  comes_again: "will be delivered again",
};

/** What a question is about. */
export type Item = {
  kind: "text" | "row" | "whole";
  column?: string;
  text?: string;
  rows?: number;
  row?: number;
  columns?: string[];
  cells?: string[];
  named?: string[];
};
