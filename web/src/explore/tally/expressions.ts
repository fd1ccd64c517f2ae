import type { Schemas } from "../../client/client";
import { quoted } from "../../shared/words";

// How rows are grouped, as the condition language writes it and as people choose it.

type Column = Schemas["Column"];

/** A column as it is, by a period of its dates, or in steps of its numbers; or an expression that somebody wrote. */
export type Grouping = { column?: string; grain?: string; step?: string; written?: string };

/** The periods that dates are grouped by. */
export const grains = ["year", "quarter", "month", "week", "day", "hour"];

/** The days of the week, from Monday on, as numbers. */
export const weekday = "weekday";

const name = `("(?:[^"]|"")+"|[a-z_][a-z0-9_]*)`;
const unquoted = (text: string) => (text.startsWith('"') ? text.slice(1, -1).replaceAll('""', '"') : text);

/** The expression of a grouping. */
export function expressionOf(g: Grouping): string {
  if (g.written !== undefined || !g.column) {
    return g.written ?? "";
  }
  const column = quoted(g.column);
  switch (true) {
    case g.grain === weekday:
      return `EXTRACT(ISODOW FROM ${column})`;
    case g.grain !== undefined:
      return `DATE_TRUNC('${g.grain}', ${column})`;
    case g.step !== undefined:
      return `FLOOR(${column} / ${g.step}) * ${g.step}`;
  }
  return column;
}

/** What an expression says, where it is one of those that are chosen. */
export function groupingOf(expression: string): Grouping {
  const found =
    new RegExp(`^${name}$`).exec(expression) ??
    new RegExp(`^DATE_TRUNC\\('(?<grain>\\w+)', ${name}\\)$`).exec(expression) ??
    new RegExp(`^EXTRACT\\((?<week>ISODOW) FROM ${name}\\)$`).exec(expression) ??
    new RegExp(`^FLOOR\\(${name} / (?<step>[0-9.]+)\\) \\* \\k<step>$`).exec(expression);
  if (!found) {
    return { written: expression };
  }
  const column = found.find(
    (part, i) =>
      i > 0 &&
      part !== undefined &&
      part !== found.groups?.grain &&
      part !== found.groups?.week &&
      part !== found.groups?.step,
  );
  return {
    column: unquoted(column ?? ""),
    grain: found.groups?.week ? weekday : found.groups?.grain,
    step: found.groups?.step,
  };
}

const isDated = (c: Column) => c.type === "date" || c.type === "datetime";

/** How a column is grouped where nobody says otherwise: dates by month, numbers of many kinds in some twenty round steps. */
export function usualGrouping(c: Column): Grouping {
  if (isDated(c)) {
    return { column: c.name, grain: "month" };
  }
  const numbers = c.numbers;
  if (numbers && c.distinct > 40 && numbers.histogram.width > 0) {
    return { column: c.name, step: String(numbers.histogram.width) };
  }
  return { column: c.name };
}

/** The condition that the rows of a group meet; the text is that of the group. */
export function meets(by: Schemas["GroupedBy"], group: Schemas["TalliedGroup"]): string {
  const e = `(${by.expression})`;
  if (group.missing) {
    return `${e} IS NULL`;
  }
  switch (by.kind) {
    case "number":
      return `${e} = ${group.text}`;
    case "date":
      return `${e} = DATE '${group.text}'`;
    case "datetime":
      return `${e} = TIMESTAMP '${group.text.replace("T", " ")}'`;
    case "boolean":
      return `${e} IS ${group.text.toUpperCase()}`;
  }
  return `${e} = '${group.text.replaceAll("'", "''")}'`;
}

/** What an expression is called in headings. */
export function calledOf(expression: string): string {
  const g = groupingOf(expression);
  if (g.written !== undefined) {
    return g.written;
  }
  if (g.grain) {
    return `${g.grain} of ${g.column}`;
  }
  return g.step ? `${g.column} in steps of ${g.step}` : (g.column ?? "");
}

const days = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

/** What a group is called: periods by as much of their date as tells them apart. */
export function groupCalled(by: Schemas["GroupedBy"], group: Schemas["TalliedGroup"]): string {
  const g = groupingOf(by.expression);
  if (group.missing) {
    return "missing";
  }
  switch (g.grain) {
    case weekday:
      return days[Number(group.text) - 1] ?? group.text;
    case "year":
      return group.text.slice(0, 4);
    case "month":
      return group.text.slice(0, 7);
    case "quarter":
      return `${group.text.slice(0, 4)} Q${Math.ceil(Number(group.text.slice(5, 7)) / 3)}`;
  }
  if (g.step) {
    const places = (g.step.split(".")[1] ?? "").length;
    return `${group.text} to ${(Number(group.text) + Number(g.step)).toFixed(places)}`;
  }
  return group.text;
}

/** What a measure is called. */
export function measureCalled(m: Schemas["Measure"]): string {
  const of = m.of ? `${m.kind.replaceAll("_", " ")} of ${calledOf(m.of)}` : m.kind;
  if (m.share === "before") {
    return `${of}, % more than the period before`;
  }
  return m.share ? `${of}, % of ${m.share === "all" ? "all" : `the ${m.share}`}` : of;
}

/** The address of the rows of groups, as its search. */
export const rowsOf = (where: string | undefined, conditions: string[]) => ({
  view: "rows",
  where: [where && `(${where})`, ...conditions].filter(Boolean).join(" AND ") || undefined,
});
