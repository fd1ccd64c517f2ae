import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { keep, kept } from "../../client/keeping";
import { me } from "../../client/queries";
import type { TableSearch } from "../../shared/addresses";

/** How the columns of a dataset stand in the grid: what an address does not say is as a person left it. */
export type Layout = { order: string[]; pin: string[]; hide: string[]; widths: Record<string, number> };

const none: Layout = { order: [], pin: [], hide: [], widths: {} };

const texts = (v: unknown): v is string[] => Array.isArray(v) && v.every((t) => typeof t === "string");

function layoutOf(value: unknown): Layout | undefined {
  const v = value as Partial<Layout> | null;
  return v && texts(v.order) && texts(v.pin) && texts(v.hide) && typeof v.widths === "object"
    ? { order: v.order, pin: v.pin, hide: v.hide, widths: v.widths ?? {} }
    : undefined;
}

/** The layout of a dataset's grid, and what changes it: for this person, and in the address, so that a link shows it. */
export function useLayout(
  dataset: string,
  search: TableSearch,
  change: (what: Partial<TableSearch>, replace?: boolean) => void,
) {
  const name = `rows of ${useQuery(me).data?.name ?? ""}: ${dataset}`;
  const [own, setOwn] = useState(() => kept(name, layoutOf) ?? none);
  const layout: Layout = {
    order: search.order ?? own.order,
    pin: search.pin ?? own.pin,
    hide: search.hide ?? own.hide,
    widths: own.widths,
  };
  const set = (what: Partial<Layout>) => {
    const next = { ...layout, ...what };
    keep(name, next);
    setOwn(next);
    const { widths, ...said } = what;
    if (Object.keys(said).length > 0) {
      change(
        { order: some(next.order), pin: some(next.pin), hide: some(next.hide), offset: search.offset },
        true,
      );
    }
  };
  return { layout, set };
}

const some = (list: string[]) => (list.length > 0 ? list : undefined);

/** All columns in their order: pinned ones first, then those that were moved, the others where the file has them. */
export function ordered(columns: string[], layout: Layout): string[] {
  const shown = columns.filter((c) => !layout.hide.includes(c));
  const order = [...layout.order.filter((c) => shown.includes(c))];
  for (const [i, c] of shown.entries()) {
    if (!order.includes(c)) {
      // It stands behind the column that it follows in the file.
      const before = shown.slice(0, i).findLast((b) => order.includes(b));
      order.splice(before === undefined ? 0 : order.indexOf(before) + 1, 0, c);
    }
  }
  const pinned = layout.pin.filter((c) => order.includes(c));
  return [...pinned, ...order.filter((c) => !pinned.includes(c))];
}

/** An order in which a column stands one place further to the left or right. */
export function moved(columns: string[], column: string, by: -1 | 1): string[] {
  const next = columns.filter((c) => c !== column);
  next.splice(Math.min(Math.max(columns.indexOf(column) + by, 0), next.length), 0, column);
  return next;
}
