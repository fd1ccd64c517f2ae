import type { Dimension } from "../client/client";

// How the console writes numbers, shares and times.

const whole = new Intl.NumberFormat("en-GB");

export const count = (n: number | null | undefined) => (n == null ? "" : whole.format(n));

/** A share of 0 to 100 with two digits; 100 and 0 only where it is exactly that. */
export function percent(v: number | null | undefined): string {
  if (v == null) {
    return "";
  }
  if (v === 100 || v === 0) {
    return String(v);
  }
  return Math.min(Math.max(v, 0.01), 99.99).toFixed(2);
}

/** A decimal text with group separators, its digits as they are. */
export function decimal(text: string | undefined): string {
  const found = /^(-?)(\d+)(\.\d+)?$/.exec(text ?? "");
  return found ? found[1] + whole.format(BigInt(found[2])) + (found[3] ?? "") : (text ?? "");
}

/** A number with at most two digits after the point, for reading at a glance. */
export function glance(text: string | undefined): string {
  const n = Number(text);
  const digits = Number.isInteger(n) ? 0 : 2;
  return !text || Number.isNaN(n)
    ? (text ?? "")
    : n.toLocaleString("en-GB", { minimumFractionDigits: digits, maximumFractionDigits: 2 });
}

export function when(time: string | null | undefined): string {
  return time ? new Date(time).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" }) : "";
}

export function bytes(n: number): string {
  const units = ["bytes", "kB", "MB", "GB", "TB"];
  let unit = 0;
  let value = n;
  while (value >= 1000 && unit < units.length - 1) {
    value /= 1000;
    unit++;
  }
  return `${unit === 0 ? value : value.toPrecision(3)} ${units[unit]}`;
}

export const plural = (n: number, one: string, many: string) => `${count(n)} ${n === 1 ? one : many}`;

export const dimensions: Dimension[] = ["completeness", "validity", "uniqueness", "consistency"];

/** What a value caught in a dimension is called. */
export const caughtWord: Record<Dimension, string> = {
  completeness: "missing",
  validity: "invalid",
  uniqueness: "surplus",
  consistency: "inconsistent",
};

/** A number with six significant digits; its whole part is never cut. */
export const short = (n: number) =>
  Math.abs(n) >= 1e15
    ? n.toExponential(5)
    : (Math.abs(n) >= 1e5 ? Math.round(n * 10) / 10 : Number(n.toPrecision(6))).toLocaleString("en-GB", {
        maximumFractionDigits: 6,
      });

/** Where a bin of some width starts, with as many digits as tell it from the next. */
export const edge = (at: number, width: number) =>
  at.toLocaleString("en-GB", {
    maximumFractionDigits: Math.min(Math.max(2 - Math.floor(Math.log10(width)), 0), 15),
  });

/** A share of the whole in percent, with as many digits as matter. */
export const shareOf = (part: number, whole: number) =>
  whole === 0 ? "" : `${percent((100 * part) / whole)} %`;

/** A column's name as conditions write it. */
export const quoted = (column: string) => `"${column.replaceAll('"', '""')}"`;

/** The condition that holds where a number lies beyond the fences. */
export const beyond = (column: string, low: number, high: number) =>
  `${quoted(column)} < ${plain(low)} OR ${quoted(column)} > ${plain(high)}`;

const plain = (n: number) => n.toLocaleString("en-US", { useGrouping: false, maximumFractionDigits: 12 });

/** A long name, cut in the middle, where names differ least. */
export const middle = (name: string, most: number) =>
  name.length <= most
    ? name
    : `${name.slice(0, Math.ceil((most - 1) / 2))}…${name.slice(-Math.floor((most - 1) / 2))}`;

/** What is written down of where a delivery comes from. */
export const sourceNotes = [
  { name: "provider", label: "Provider", hint: "who sent it" },
  { name: "contact", label: "Contact", hint: "who can be asked" },
  { name: "period", label: "Period", hint: "the period it covers" },
  { name: "method", label: "Method", hint: "how the numbers were made" },
  { name: "limits", label: "Known limits", hint: "known limits" },
  { name: "note", label: "Note", hint: "anything else" },
];

/** The condition that a column is missing. */
export const missing = (column: string) => `${quoted(column)} IS NULL`;

/** What a table is called by its origin. */
export const originWord: Record<string, string> = {
  delivery: "delivery",
  cleaned: "cleaned table",
  merged: "merged table",
};
