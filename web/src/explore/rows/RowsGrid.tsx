import { Box, chakra } from "@chakra-ui/react";
import { useQueries } from "@tanstack/react-query";
import { useSearch } from "@tanstack/react-router";
import { getCoreRowModel, useReactTable } from "@tanstack/react-table";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo } from "react";
import type { Schemas } from "../../client/client";
import { rows } from "../../client/queries";
import { right, Td, Th } from "../../shared/grid";
import { Trouble } from "../../shared/states";
import type { useChosen } from "./ChosenRows";
import { ColumnHead } from "./ColumnHead";
import type { Change } from "./change";
import { GridFoot } from "./GridFoot";
import { caughtWidth, headHeight, headWidth, pageRows, rowHeight, widthOf } from "./geometry";
import { ordered, type useLayout } from "./layout";
import { type Placed, RowLine } from "./RowLine";
import { useScroll } from "./useScroll";

const none: unknown[] = [];

/** As many rows and columns as fit, of any number; the scroll bars stand for all of them. */
export function RowsGrid(props: {
  t: Schemas["Table"];
  judged: Schemas["AuditShown"] | undefined;
  first: Schemas["RowsPage"];
  asked: Parameters<typeof rows>[1];
  start: number;
  layout: ReturnType<typeof useLayout>;
  chosen: ReturnType<typeof useChosen>;
  change: Change;
}) {
  const { t, first, judged, layout, chosen, change } = props;
  const { sort, falling, find } = useSearch({ from: "/tables/$id" });
  const total = first.total < 0 ? first.offset + first.rows.length : first.total;
  const { frame, at, fit, height, goTo, onScroll, onKey } = useScroll(total, props.start, (offset) =>
    change({ offset }, true),
  );
  const order = useMemo(() => ordered(first.columns, layout.layout), [first.columns, layout.layout]);
  const place = useMemo(() => new Map(first.columns.map((c, i) => [c, i])), [first.columns]);
  const pins = layout.layout.pin.filter((c) => order.includes(c));
  const table = useReactTable({
    data: none,
    columns: useMemo(
      () =>
        first.columns.map((name, i) => ({
          id: name,
          size: widthOf(name, i, first),
          minSize: 60,
          maxSize: 1200,
        })),
      [first],
    ),
    state: {
      columnOrder: order,
      columnPinning: { left: pins },
      columnVisibility: Object.fromEntries(layout.layout.hide.map((c) => [c, false])),
      columnSizing: layout.layout.widths,
    },
    columnResizeMode: "onEnd",
    onColumnSizingChange: (next) =>
      layout.set({ widths: typeof next === "function" ? next(layout.layout.widths) : next }),
    getCoreRowModel: getCoreRowModel(),
  });
  const left = table.getLeftLeafHeaders();
  const center = table.getCenterLeafHeaders();
  const fixed = headWidth + table.getLeftTotalSize();
  const across = useVirtualizer({
    horizontal: true,
    count: center.length,
    getScrollElement: () => frame.current,
    estimateSize: (i) => center[i].getSize(),
    getItemKey: (i) => `${center[i].id} ${center[i].getSize()}`,
    scrollMargin: fixed,
    overscan: 4,
    initialRect: { width: 1280, height: 400 },
  });
  const items = across.getVirtualItems();
  const before = items.length > 0 ? items[0].start - fixed : 0;
  const after = items.length > 0 ? across.getTotalSize() - (items[items.length - 1].end - fixed) : 0;
  const width = fixed + across.getTotalSize() + caughtWidth;
  const columns = order.length + 2;
  const pinned = left.map(
    (h): Placed => ({
      name: h.column.id,
      at: place.get(h.column.id) ?? 0,
      place: h.index + 2,
      left: headWidth + h.column.getStart("left"),
    }),
  );
  const shown = items.map(
    (item): Placed => ({
      name: center[item.index].column.id,
      at: place.get(center[item.index].column.id) ?? 0,
      place: left.length + item.index + 2,
    }),
  );
  const head = (h: (typeof left)[number], c: Placed) => (
    <ColumnHead
      key={h.id}
      t={t}
      header={h}
      place={c.place}
      left={c.left}
      of={judged?.result.columns[c.at]}
      sorted={sort === c.name ? (falling ? "descending" : "ascending") : undefined}
      order={order}
      layout={layout}
      change={change}
    />
  );
  const from = Math.floor(at / pageRows);
  const pages = useQueries({
    queries: [from, from + 1].map((p) => ({
      ...rows(t.id, props.asked, { offset: p * pageRows, limit: pageRows }),
      enabled: p * pageRows < total,
    })),
  });
  const lines = Array.from({ length: Math.min(fit, total - at) }, (_, i) => ({
    place: at + i,
    r: pages[Math.floor((at + i) / pageRows) - from]?.data?.rows[(at + i) % pageRows],
  }));
  return (
    <>
      <Trouble error={pages.find((p) => p.error)?.error} />
      <Box
        ref={frame}
        className="scrolls"
        overflow="auto"
        h="calc(100vh - 285px)"
        minH="260px"
        tabIndex={0}
        role="region"
        aria-label="Rows"
        borderTopWidth="1px"
        borderColor="line"
        onKeyDown={onKey}
        onScroll={onScroll}
      >
        <Box h={`${height}px`} style={{ width }} minW="100%">
          <chakra.table
            position="sticky"
            top="0"
            tableLayout="fixed"
            style={{ width }}
            aria-rowcount={total + 1}
            aria-colcount={columns}
          >
            <thead>
              <tr aria-rowindex={1}>
                <Th
                  {...right}
                  left="0"
                  zIndex="3"
                  style={{ width: headWidth, height: headHeight }}
                  aria-colindex={1}
                >
                  row
                </Th>
                {left.map((h, i) => head(h, pinned[i]))}
                {before > 0 && <td aria-hidden="true" style={{ width: before }} />}
                {items.map((item, i) => head(center[item.index], shown[i]))}
                {after > 0 && <td aria-hidden="true" style={{ width: after }} />}
                <Th style={{ width: caughtWidth }} aria-colindex={columns}>
                  caught by
                </Th>
              </tr>
            </thead>
            <tbody>
              {lines.map(({ place: at, r }) =>
                r ? (
                  <RowLine
                    key={r.row}
                    place={at}
                    r={r}
                    pinned={pinned}
                    shown={shown}
                    before={before}
                    after={after}
                    last={columns}
                    of={judged?.result.columns}
                    find={find}
                    chosen={chosen.has(r.row)}
                    choose={(row, on) => chosen.choose(on ? [r] : [], on ? [] : [row])}
                  />
                ) : (
                  <tr key={`waiting ${at}`} aria-rowindex={at + 2}>
                    <Td {...right} color="quiet" h={`${rowHeight}px`}>
                      …
                    </Td>
                  </tr>
                ),
              )}
            </tbody>
          </chakra.table>
        </Box>
      </Box>
      <GridFoot
        t={t}
        first={first}
        total={total}
        at={at}
        fit={fit}
        goTo={goTo}
        order={order}
        chooseShown={() =>
          chosen.choose(
            lines.flatMap((l) => l.r ?? []),
            [],
          )
        }
      />
    </>
  );
}
