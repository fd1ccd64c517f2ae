import type { Dimension } from "../client/client";
import type { ReadingWish } from "../client/queries";

// The address holds the whole state of a view, so that a link shows a colleague the same.

/** Of what a measure is told as a share, or as a change. */
export type Share = "all" | "row" | "column" | "before";

export const shareOf = (v: unknown): Share | undefined =>
  v === "all" || v === "row" || v === "column" || v === "before" ? v : undefined;

export type TableSearch = {
  view?: string;
  column?: string;
  rule?: string;
  dimension?: string;
  after?: number;
  /** Of the grid: how many rows come before the first one shown. */
  offset?: number;
  where?: string;
  is?: string;
  find?: string;
  /** Of the rows: conditions beside the one that is written, each of which can be taken away by itself. */
  only?: string[];
  /** Of the rows: only those of which something is missing or caught. */
  marked?: boolean;
  /** Of the rows: only those whose cell in this column is an estimate. */
  estimated?: string;
  /** Of the rows: the audit that says what is caught, so that a link shows the same for ever. */
  audit?: number;
  sort?: string;
  falling?: boolean;
  /** Of the columns: only those that are so. */
  show?: string;
  hide?: string[];
  pin?: string[];
  /** Of the columns: their order, as far as it is not that of the file. */
  order?: string[];
  /** Of the tally: what rows are grouped by, and what is told of each group. */
  down?: string;
  across?: string;
  measures?: string[];
  share?: Share;
  /** Of the groups: the columns they share, and their kind. */
  by?: string[];
  kind?: "equal" | "conflicting" | "near" | "ranks";
  /** Of a comparison: the table that is held against this one. */
  with?: number;
  /** Of the tally: how it is drawn, where that is not what fits first. */
  picture?: string;
  /** Of the rows of a merged table: only those that are chosen by where they are from, as met:stations. */
  sourced?: string;
  /** Of a comparison: the columns that tell rows apart, and which of them are shown. */
  key?: string[];
  revised?: "came" | "went";
  /** Of totals: what is added up by what, here and in the table that is held against this one. */
  byThere?: string[];
  of?: string;
  ofThere?: string;
  whereThere?: string;
  factor?: string;
  tolerance?: string;
  percent?: string;
  /** Of totals: the group whose rows are shown. */
  group?: string[];
  /** Of the lineage: the row that is followed. */
  row?: number;
};

/** A text of an address; nothing where it is none. */
export const text = (v: unknown) => (typeof v === "string" && v !== "" ? v : undefined);

const texts = (v: unknown) =>
  Array.isArray(v) && v.length > 0 ? v.filter((x): x is string => typeof x === "string") : undefined;

/** Which rows an address chooses, as the interface asks for them. */
export function rowChoice(s: TableSearch) {
  const conditions = [s.where, ...(s.only ?? [])].filter((c): c is string => Boolean(c));
  return {
    rule: s.rule,
    column: s.column,
    dimension: s.dimension as Dimension | undefined,
    where: conditions.length > 1 ? conditions.map((c) => `(${c})`).join(" AND ") : conditions[0],
    is: s.is,
    find: s.find,
    marked: s.marked,
    estimated: s.estimated,
    sourced: s.sourced,
    audit: s.audit,
  };
}

/** Which rows and columns an address chooses, as a query; no columns stand for all. */
function chosen(s: TableSearch, columns: string[]): URLSearchParams {
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries(rowChoice(s))) {
    if (value) {
      query.set(name, String(value));
    }
  }
  for (const c of columns) {
    query.append("columns", c);
  }
  return query;
}

/** Where the service hands out the rows that an address chooses, all of them, as CSV, as they stand in the file. */
export function rowsFile(id: number, s: TableSearch, columns: string[]): string {
  return `/api/v1/tables/${id}/chosen-rows?${chosen(s, columns)}`;
}

/** Where the service hands out the rows that an address chooses for analysis, in a format. */
export function exportFile(
  id: number,
  s: TableSearch,
  columns: string[],
  options: Record<string, string>,
): string {
  const query = chosen(s, columns);
  for (const [name, value] of Object.entries(options)) {
    query.set(name, value);
  }
  return `/api/v1/tables/${id}/export?${query}`;
}

/** The columns and texts of rows that are chosen by their cells; nothing where an address names none. */
export function pairs(is: unknown): [string, string][] | undefined {
  try {
    const all: unknown = JSON.parse(String(is));
    const good =
      Array.isArray(all) &&
      all.every((p) => Array.isArray(p) && p.length === 2 && p.every((x) => typeof x === "string"));
    return good ? all : undefined;
  } catch {
    return undefined;
  }
}

/** What the address of a table says; whatever is none of its words is left out. */
export function tableSearch(s: Record<string, unknown>): TableSearch {
  return {
    view: text(s.view),
    column: text(s.column),
    rule: text(s.rule),
    dimension: text(s.dimension),
    after: typeof s.after === "number" ? s.after : undefined,
    offset: typeof s.offset === "number" && s.offset > 0 ? Math.floor(s.offset) : undefined,
    where: text(s.where),
    is: pairs(s.is) && text(s.is),
    find: text(s.find),
    sort: text(s.sort),
    falling: s.falling === true ? true : undefined,
    only: texts(s.only),
    marked: s.marked === true ? true : undefined,
    estimated: text(s.estimated),
    audit: typeof s.audit === "number" && s.audit > 0 ? Math.floor(s.audit) : undefined,
    show: text(s.show),
    hide: texts(s.hide),
    pin: texts(s.pin),
    order: texts(s.order),
    down: text(s.down),
    across: text(s.across),
    measures: texts(s.measures),
    share: shareOf(s.share),
    by: texts(s.by),
    kind:
      s.kind === "equal" || s.kind === "near" || s.kind === "conflicting" || s.kind === "ranks"
        ? s.kind
        : undefined,
    with: typeof s.with === "number" && s.with > 0 ? Math.floor(s.with) : undefined,
    picture: text(s.picture),
    sourced: text(s.sourced),
    key: texts(s.key),
    revised: s.revised === "came" || s.revised === "went" ? s.revised : undefined,
    byThere: texts(s.byThere),
    of: text(s.of),
    ofThere: text(s.ofThere),
    whereThere: text(s.whereThere),
    factor: text(s.factor),
    tolerance: text(s.tolerance),
    percent: text(s.percent),
    group: Array.isArray(s.group) ? s.group.map(String) : undefined,
    row: typeof s.row === "number" && s.row > 0 ? Math.floor(s.row) : undefined,
  };
}

/**
 * What the address of a file on its way in says: which file, what a person says of how it is read, and which dataset it
 * is a delivery of, or that of a new one.
 */
export function arrivalSearch(s: Record<string, unknown>): {
  arrival?: number;
  reading?: ReadingWish;
  dataset?: string;
  fresh?: boolean;
} {
  const texts = ["encoding", "delimiter", "quote", "decimal_mark", "grouping_mark", "sheet", "entry"];
  const lists = ["missing", "dates", "closing"];
  const said = Object.entries(s.reading && typeof s.reading === "object" ? s.reading : {}).filter(
    ([name, v]) =>
      (texts.includes(name) && typeof v === "string") ||
      (lists.includes(name) && Array.isArray(v) && v.every((t) => typeof t === "string")) ||
      (name === "header_line" && Number.isInteger(v)),
  );
  return {
    arrival: typeof s.arrival === "number" && s.arrival > 0 ? Math.floor(s.arrival) : undefined,
    reading: said.length > 0 ? (Object.fromEntries(said) as ReadingWish) : undefined,
    dataset: text(s.dataset),
    fresh: s.fresh === true ? true : undefined,
  };
}
