import type { Schemas } from "../../client/client";
import { middle } from "../../shared/words";
import { groupCalled } from "./expressions";

type Tally = Schemas["Tally"];
type Group = Schemas["TalliedGroup"];

/** What a picture of a tally gets. */
export type Drawing = {
  x: Tally;
  says: string;
  file: string;
  /** Opens the rows of a group, or of one of each grouping. */
  open: (down: Group, across?: Group) => void;
};

/** The value of a measure; nothing where it is not defined. */
export const valued = (text: string | undefined) =>
  text === undefined || text === "" ? undefined : Number(text);

/** The groups of the first grouping that are drawn: those that have a name, with their places. */
export const groupsOf = (x: Tally) =>
  (x.by[0]?.groups ?? [])
    .map((g, i) => ({ g, i, name: groupCalled(x.by[0], g) }))
    .filter(({ g }) => !g.missing);

/** The first measure of the groups: one series, or one for each group of the second grouping, up to some. */
export function seriesOf(x: Tally, most: number) {
  const groups = groupsOf(x);
  const second = x.by.length === 2 ? x.by[1] : undefined;
  return second
    ? second.groups.slice(0, most).map((g, k) => ({
        name: groupCalled(second, g),
        group: g,
        values: groups.map(({ i }) => valued(x.cells[i][k].values[0])),
      }))
    : [{ name: "", group: undefined, values: groups.map(({ i }) => valued(x.downs[i].values[0])) }];
}

/** What a group says when it is pointed at. */
export const saying = (group: string, series: string, v: number) =>
  `${group}${series && `, ${series}`}: ${v.toLocaleString("en-GB")}`;

const pictures = ["bars", "stacked", "lines", "heat", "boxes"] as const;
export type PictureKind = (typeof pictures)[number];

export const pictureCalled: Record<PictureKind, string> = {
  bars: "bars",
  stacked: "bars in parts",
  lines: "lines",
  heat: "a heat map",
  boxes: "boxes",
};

/** The measures that a box is drawn of. */
export const boxed = ["lowest", "first_quartile", "median", "third_quartile", "highest"];

/** The column whose five measures of a box a tally tells; nothing where it does not. */
export function boxOf(x: Tally): { of: string; at: number[] } | undefined {
  const of = x.measures.find((m) => m.kind === "median")?.of;
  const at = boxed.map((kind) => x.measures.findIndex((m) => m.kind === kind && m.of === of));
  return of && at.every((i) => i >= 0) ? { of, at } : undefined;
}

/** How many groups of a second grouping can still be told apart side by side. */
export const apart = 5;

/** The pictures that a tally can be drawn as, the one that fits best first. */
export function fitting(x: Tally): PictureKind[] {
  const [first, second] = x.by;
  if (!first || groupsOf(x).length < 2) {
    return [];
  }
  const ordered = first.kind !== "text" && first.kind !== "boolean";
  if (!second) {
    return [
      ...(boxOf(x) ? ["boxes" as const] : []),
      ...(ordered ? (["lines", "bars"] as const) : (["bars"] as const)),
      ...(!boxOf(x) && x.measures.some((m) => m.of && m.kind !== "distinct" && m.kind !== "filled")
        ? ["boxes" as const]
        : []),
    ];
  }
  // Parts make a whole only where they can be added up.
  const added = ["rows", "filled", "sum"].includes(x.measures[0].kind) && x.measures[0].share !== "before";
  const some: PictureKind[] = [ordered ? "lines" : "bars", ...(added ? (["stacked"] as const) : []), "heat"];
  return second.groups.length > apart ? ["heat", ...some.filter((k) => k !== "heat")] : some;
}

/** What stands below groups that are drawn side by side, every so many of them, cut to the room that they have. */
export function namesBelow(groups: { g: Group; name: string }[], step: number, every: number) {
  return {
    xTicks: groups.filter((_, i) => i % every === 0).map(({ g }) => g.text),
    xFormat: (text: string) =>
      middle(
        groups.find(({ g }) => g.text === text)?.name ?? text,
        Math.max(Math.floor((step * every) / 6.5), 4),
      ),
  };
}
