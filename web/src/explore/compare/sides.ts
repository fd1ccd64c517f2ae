import type { Schemas } from "../../client/client";

type Column = Schemas["Column"];

/** A column as it is drawn over another: steps of numbers or time, or values. Heights are shares of its rows. */
export type Steps = { from: number; to: number; height: number }[];

export type Sides =
  | { kind: "numbers" | "days"; one: Steps; other: Steps }
  | { kind: "values"; values: string[]; one: number[]; other: number[] };

/** The share of the rows for each unit of the measure, so that bins of different widths can be compared. */
function density(c: Column): Steps | undefined {
  const h = c.numbers?.histogram;
  const n = c.numbers?.count ?? 0;
  return h && h.width > 0 && n > 0
    ? h.rows.map((rows, i) => ({
        from: h.from + i * h.width,
        to: h.from + (i + 1) * h.width,
        height: rows / n / h.width,
      }))
    : undefined;
}

function calendar(c: Column): Steps | undefined {
  const periods = c.dates?.periods;
  if (!periods || periods.length === 0) {
    return undefined;
  }
  const starts = periods.map((p) =>
    Date.parse(p.start.length === 4 ? `${p.start}-01-01` : p.start.length === 7 ? `${p.start}-01` : p.start),
  );
  const total = periods.reduce((n, p) => n + p.rows, 0);
  return periods.map((p, i) => {
    const end = starts[i + 1] ?? starts[i] + (starts[i] - (starts[i - 1] ?? starts[i] - 86_400_000));
    return { from: starts[i], to: end, height: ((p.rows / total) * 86_400_000) / (end - starts[i]) };
  });
}

/** How two columns are drawn over each other; nothing where they are of different kinds. */
export function sidesOf(one: Column, other: Column): Sides | undefined {
  const numbers = [density(one), density(other)];
  if (numbers[0] && numbers[1]) {
    return { kind: "numbers", one: numbers[0], other: numbers[1] };
  }
  const days = [calendar(one), calendar(other)];
  if (days[0] && days[1]) {
    return { kind: "days", one: days[0], other: days[1] };
  }
  if (numbers[0] || numbers[1] || days[0] || days[1]) {
    return undefined;
  }
  const share = (c: Column, v: string) =>
    (((c.values?.length ? c.values : c.frequent).find((f) => f.text === v)?.rows ?? 0) /
      Math.max(c.filled, 1)) *
    100;
  const values = [...new Set([...one.frequent, ...other.frequent].map((f) => f.text))].slice(0, 16);
  return values.length > 0
    ? {
        kind: "values",
        values,
        one: values.map((v) => share(one, v)),
        other: values.map((v) => share(other, v)),
      }
    : undefined;
}
