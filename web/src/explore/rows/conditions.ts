import type { Schemas } from "../../client/client";
import { quoted } from "../../shared/words";

// What a press in a column's menu asks of the rows, in the condition language.

const one = `"((?:[^"]|"")+)"`;

/** A condition in words, where it is one of those that a menu makes. */
export function says(condition: string): string {
  const gap = new RegExp(`^${one} IS (NOT )?NULL$`).exec(condition);
  const range = new RegExp(`^${one} (>=|<=) (\\S+)(?: AND ${one} <= (\\S+))?$`).exec(condition);
  const name = (text: string) => text.replaceAll('""', '"');
  const value = (text: string) => text.replaceAll("'", "");
  if (gap) {
    return `${name(gap[1])} is ${gap[2] ? "filled" : "missing"}`;
  }
  if (range) {
    const from = range[2] === ">=" ? ` from ${value(range[3])}` : "";
    const to = range[2] === "<=" ? value(range[3]) : range[5] && value(range[5]);
    return `${name(range[1])}${from}${to ? ` to ${to}` : ""}`;
  }
  return condition;
}

/** What a column's values are compared as. */
export type Compared = "number" | "day" | "instant" | "text" | "none";

export function comparedAs(c: Schemas["Column"] | undefined): Compared {
  switch (c?.type) {
    case "integer":
    case "decimal":
      return "number";
    case "date":
      return "day";
    case "datetime":
      return "instant";
    case undefined:
    case "boolean":
    case "time":
      return "none";
    default:
      return "text";
  }
}

/** The condition that a column lies between two bounds, both of which count; nothing where neither is given. */
export function between(column: string, as: Compared, from: string, to: string): string | undefined {
  const bound = (v: string) => (as === "number" ? v : `'${v.replaceAll("'", "''")}'`);
  const parts = [
    from !== "" && `${quoted(column)} >= ${bound(from)}`,
    // Every hour of the last day counts.
    to !== "" && `${quoted(column)} ${as === "instant" ? `< ${bound(dayAfter(to))}` : `<= ${bound(to)}`}`,
  ].filter(Boolean);
  return parts.length > 0 ? parts.join(" AND ") : undefined;
}

const dayAfter = (day: string) => new Date(Date.parse(day) + 86_400_000).toISOString().slice(0, 10);

/** The condition that a text of a column contains another one. */
export const containing = (column: string, text: string) =>
  `${quoted(column)} LIKE '%${text.replaceAll("'", "''")}%'`;
