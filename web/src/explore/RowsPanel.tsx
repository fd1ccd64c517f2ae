import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useQueries, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { type KeyboardEvent, useEffect, useLayoutEffect, useRef, useState } from "react";
import { api, type Dimension, type Schemas, take } from "../client/client";
import { audit } from "../client/queries";
import { pairs, rowsFile, type TableSearch } from "../shared/addresses";
import { Choice, Empty, Field, Press, right, Td, Th, Trouble, Value, Waiting } from "../shared/parts";
import { caughtWord, count, dimensions, plural, quoted } from "../shared/words";

const mark: Record<Dimension, string> = {
  completeness: "□",
  validity: "▨",
  uniqueness: "‖",
  consistency: "⁘",
};

const pageRows = 100;
const rowHeight = 33;
const headHeight = 34;
/** Browsers draw no element taller than some thirty million pixels. */
const tallest = 8_000_000;

type Page = Schemas["RowsPage"];

/** The rows of a table as they stand in the file, to the last of millions; what is caught is marked where it stands. */
export function RowsPanel({ t }: { t: Schemas["Table"] }) {
  const search = useSearch({ from: "/tables/$id" });
  const navigate = useNavigate();
  const { rule, column, dimension, where, is, find, sort, falling, after } = search;
  const filter = {
    rule,
    column,
    dimension: dimension as Dimension | undefined,
    where,
    is,
    find,
    sort,
    falling,
  };
  const change = (what: Partial<TableSearch>, replace = false) =>
    navigate({
      to: "/tables/$id",
      params: { id: String(t.id) },
      search: { ...search, view: "rows", offset: undefined, after: undefined, ...what },
      replace,
    });
  const page = (offset: number, from?: number) => ({
    queryKey: ["table", t.id, "rows", filter, offset, from],
    queryFn: () =>
      take(
        api.GET("/tables/{id}/rows", {
          params: { path: { id: t.id }, query: { ...filter, offset, after: from, limit: pageRows } },
        }),
      ),
    retry: false,
    staleTime: 60_000,
  });
  const first = useQuery(page(0, after));
  const restricted = Boolean(rule || column || dimension || where || is || find);
  return (
    <>
      <Filters t={t} columns={first.data?.columns ?? []} change={change} />
      <Trouble error={first.error} />
      {first.isLoading && (
        <Waiting>{restricted || sort ? "Looking through all rows …" : "Loading …"}</Waiting>
      )}
      {first.data &&
        (first.data.total === 0 || (first.data.total < 0 && first.data.rows.length === 0) ? (
          <Empty>
            {restricted
              ? "No row is left by this choice; take a part of it away above."
              : "The table has no rows."}
          </Empty>
        ) : (
          <VirtualGrid
            key={JSON.stringify(filter)}
            t={t}
            first={first.data}
            page={page}
            start={search.offset ?? (after ? first.data.offset : 0)}
            change={change}
          />
        ))}
    </>
  );
}

type Change = (what: Partial<TableSearch>, replace?: boolean) => void;

function Filters({ t, columns, change }: { t: Schemas["Table"]; columns: string[]; change: Change }) {
  const search = useSearch({ from: "/tables/$id" });
  const { rule, column, dimension, where, is, find, sort, hide, pin } = search;
  const chosen = rule || column || dimension || where || is || find || sort || hide || pin;
  return (
    <HStack gap="2" mb="2" flexWrap="wrap">
      {t.audit_id != null && (
        <RuleChoice auditId={t.audit_id} rule={rule} onChoose={(r) => change({ rule: r })} />
      )}
      <Choice
        aria-label="Only rows caught in a column"
        value={column ?? ""}
        onChange={(e) => change({ column: e.target.value || undefined })}
        maxW="170px"
      >
        <option value="">caught in any column</option>
        {columns.map((c) => (
          <option key={c}>{c}</option>
        ))}
      </Choice>
      <Choice
        aria-label="Only rows with a kind of fault"
        value={dimension ?? ""}
        onChange={(e) => change({ dimension: e.target.value || undefined })}
        maxW="160px"
      >
        <option value="">any fault or none</option>
        {dimensions.map((d) => (
          <option key={d} value={d}>
            {caughtWord[d]}
          </option>
        ))}
      </Choice>
      <Ask
        label="Only rows for which a condition holds"
        placeholder="only rows where …"
        value={where}
        onAsk={(v) => change({ where: v })}
        width="250px"
      />
      <Ask
        label="Find a text in any cell"
        placeholder="find …"
        value={find}
        onAsk={(v) => change({ find: v })}
        width="120px"
      />
      <ColumnChoice columns={columns} change={change} />
      {is && (
        <Press plain size="xs" h="6" onClick={() => change({ is: undefined })} title="Take this away">
          {(pairs(is) ?? []).map(([c, v]) => `${c} is ${v === "" ? "missing" : v}`).join(" and ")} ×
        </Press>
      )}
      {chosen && (
        <Link to="/tables/$id" params={{ id: String(t.id) }} search={{ view: "rows" }}>
          all rows
        </Link>
      )}
    </HStack>
  );
}

/** A field whose text counts once Enter is pressed. */
function Ask({
  label,
  placeholder,
  value,
  onAsk,
  width,
}: {
  label: string;
  placeholder: string;
  value?: string;
  onAsk: (v?: string) => void;
  width: string;
}) {
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        onAsk(String(new FormData(e.currentTarget).get("text") ?? "").trim() || undefined);
      }}
    >
      <Field
        name="text"
        aria-label={label}
        title={`${label}; press Enter`}
        placeholder={placeholder}
        defaultValue={value ?? ""}
        key={value}
        w={width}
      />
    </form>
  );
}

function ColumnChoice({ columns, change }: { columns: string[]; change: Change }) {
  const { hide = [], pin = [], offset } = useSearch({ from: "/tables/$id" });
  const toggle = (list: string[], c: string) => {
    const next = list.includes(c) ? list.filter((x) => x !== c) : [...list, c];
    return next.length > 0 ? next : undefined;
  };
  return (
    <chakra.details
      position="relative"
      onKeyDown={(e) => {
        if (e.key === "Escape") {
          e.currentTarget.open = false;
          e.currentTarget.querySelector("summary")?.focus();
        }
      }}
    >
      <chakra.summary cursor="pointer" fontSize="sm">
        columns{hide.length > 0 && ` (${count(hide.length)} hidden)`}
      </chakra.summary>
      <Box
        position="absolute"
        zIndex="5"
        bg="sheet"
        borderWidth="1px"
        borderColor="quiet"
        p="2"
        maxH="320px"
        overflow="auto"
        minW="260px"
      >
        {columns.map((c) => (
          <HStack key={c} justify="space-between" gap="4">
            <label>
              <input
                type="checkbox"
                checked={!hide.includes(c)}
                onChange={() => change({ hide: toggle(hide, c), offset })}
              />{" "}
              {c}
            </label>
            <label>
              <input
                type="checkbox"
                checked={pin.includes(c)}
                onChange={() => change({ pin: toggle(pin, c), offset })}
              />{" "}
              pin
            </label>
          </HStack>
        ))}
      </Box>
    </chakra.details>
  );
}

/** As many rows as fit, of any number; the scroll bar stands for all of them. */
function VirtualGrid({
  t,
  first,
  page,
  start,
  change,
}: {
  t: Schemas["Table"];
  first: Page;
  page: (offset: number) => {
    queryKey: unknown[];
    queryFn: () => Promise<Page>;
    retry: boolean;
    staleTime: number;
  };
  start: number;
  change: Change;
}) {
  const search = useSearch({ from: "/tables/$id" });
  const { sort, falling, hide = [], pin = [] } = search;
  const result = useQuery({ ...audit(t.audit_id ?? 0), enabled: t.audit_id != null }).data?.result;
  const frame = useRef<HTMLDivElement>(null);
  const [fit, setFit] = useState(20);
  const total = first.total < 0 ? first.offset + first.rows.length : first.total;
  const last = Math.max(total - fit, 0);
  const [top, setTop] = useState(Math.min(start, Math.max(total - 1, 0)));
  const at = Math.min(top, last);
  const height = Math.min(total * rowHeight, tallest) + headHeight;
  const room = useRef(1);
  useLayoutEffect(() => {
    const box = frame.current;
    if (!box) {
      return;
    }
    const measure = () => {
      const rows = Math.max(Math.floor((box.clientHeight - headHeight) / rowHeight), 1);
      setFit(rows);
      room.current = Math.max(height - box.clientHeight, 1);
      box.scrollTop = (Math.min(start, Math.max(total - rows, 0)) / Math.max(total - rows, 1)) * room.current;
    };
    measure();
    const watch = new ResizeObserver(measure);
    watch.observe(box);
    return () => watch.disconnect();
  }, [height, total, start]);
  const goTo = (row: number) => {
    const next = Math.min(Math.max(row, 0), last);
    setTop(next);
    if (frame.current) {
      frame.current.scrollTop = (next / Math.max(last, 1)) * room.current;
    }
  };
  // The address follows, a moment after the scrolling.
  const follow = useRef(change);
  follow.current = change;
  useEffect(() => {
    if (at === start) {
      return;
    }
    const timer = setTimeout(() => follow.current({ offset: at || undefined }, true), 600);
    return () => clearTimeout(timer);
  }, [at, start]);
  const from = Math.floor(at / pageRows);
  const pages = useQueries({
    queries: [from, from + 1].map((p) => ({ ...page(p * pageRows), enabled: p * pageRows < total })),
  });
  const shown = Array.from({ length: Math.min(fit, total - at) }, (_, i) => {
    const p = pages[Math.floor((at + i) / pageRows) - from]?.data;
    return { place: at + i, r: p?.rows[(at + i) % pageRows] };
  });
  const pinned = pin.filter((c) => first.columns.includes(c) && !hide.includes(c));
  const order = [...pinned, ...first.columns.filter((c) => !pin.includes(c) && !hide.includes(c))];
  const onKey = (e: KeyboardEvent) => {
    const step: Record<string, number> = {
      ArrowDown: 1,
      ArrowUp: -1,
      PageDown: fit,
      PageUp: -fit,
      Home: -total,
      End: total,
    };
    if (e.target === e.currentTarget && e.key in step) {
      e.preventDefault();
      goTo(at + step[e.key]);
    }
  };
  const trouble = pages.find((p) => p.error)?.error;
  return (
    <>
      <Trouble error={trouble} />
      <Box
        ref={frame}
        overflow="auto"
        h="calc(100vh - 305px)"
        minH="260px"
        tabIndex={0}
        role="region"
        aria-label="Rows"
        borderTopWidth="1px"
        borderColor="line"
        onKeyDown={onKey}
        onScroll={(e) => {
          const row = Math.round((e.currentTarget.scrollTop / room.current) * last);
          if (row !== at) {
            setTop(row);
          }
        }}
      >
        <Box h={`${height}px`} minW="100%" w="fit-content">
          <chakra.table position="sticky" top="0" aria-rowcount={total + 1} w="full">
            <thead>
              <tr aria-rowindex={1}>
                <Th {...right} left="0" zIndex="3" h={`${headHeight}px`}>
                  row
                </Th>
                {order.map((c) => (
                  <Head
                    key={c}
                    name={c}
                    pinned={pinnedAt(pinned, c)}
                    sorted={sort === c ? (falling ? "descending" : "ascending") : undefined}
                    change={change}
                  />
                ))}
                <Th>caught by</Th>
              </tr>
            </thead>
            <tbody>
              {shown.map(({ place, r }) =>
                r ? (
                  <Row
                    key={r.row}
                    place={place}
                    r={r}
                    columns={first.columns}
                    order={order}
                    pin={pinned}
                    result={result}
                  />
                ) : (
                  <tr key={`waiting ${place}`} aria-rowindex={place + 2}>
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
      <HStack mt="1" justify="space-between" fontSize="sm">
        <Text color="quiet" role="status">
          {sort ? "Places" : "Rows"} {count(at + 1)} to {count(Math.min(at + fit, total))} of{" "}
          {plural(total, "row", "rows")}
          {first.total < 0 && ", which are not counted yet"}
        </Text>
        <HStack gap="3">
          <form
            onSubmit={(e) => {
              e.preventDefault();
              goTo(Number(new FormData(e.currentTarget).get("row")) - 1);
            }}
          >
            <Field
              name="row"
              type="number"
              min={1}
              max={total}
              aria-label="Go to row"
              placeholder="go to …"
              w="110px"
              h="6"
            />
          </form>
          <Press plain size="xs" h="6" onClick={() => goTo(total)}>
            Last row
          </Press>
          <a
            href={rowsFile(t.id, search, hide.length + pin.length === 0 ? [] : order)}
            download
            title="Every row that is chosen, in the order of the file"
          >
            Save all {count(total)} as CSV
          </a>
        </HStack>
      </HStack>
    </>
  );
}

const pinnedWidth = 170;

/** Where a pinned column stays: beside those that were pinned before it, each as wide as the others. */
const pinnedAt = (pin: string[], column: string) => {
  const at = pin.indexOf(column);
  const width = `${pinnedWidth}px`;
  return at < 0
    ? undefined
    : ({
        position: "sticky",
        left: `${64 + at * pinnedWidth}px`,
        bg: "sheet",
        w: width,
        minW: width,
        maxW: width,
        zIndex: 1,
      } as const);
};

function Head({
  name,
  pinned,
  sorted,
  change,
}: {
  name: string;
  pinned?: object;
  sorted?: "ascending" | "descending";
  change: Change;
}) {
  const next =
    sorted === undefined
      ? { sort: name, falling: undefined }
      : sorted === "ascending"
        ? { sort: name, falling: true }
        : { sort: undefined, falling: undefined };
  return (
    <Th aria-sort={sorted ?? "none"} maxW="220px" {...(pinned ? { ...pinned, zIndex: 2 } : {})}>
      <chakra.button
        type="button"
        onClick={() => change(next)}
        title={`Sort by ${name}`}
        cursor="pointer"
        overflow="hidden"
        textOverflow="ellipsis"
        maxW="100%"
        fontWeight="600"
      >
        {name}
        {sorted && <span aria-hidden="true">{sorted === "ascending" ? " ↑" : " ↓"}</span>}
      </chakra.button>
    </Th>
  );
}

function RuleChoice({
  auditId,
  rule,
  onChoose,
}: {
  auditId: number;
  rule?: string;
  onChoose: (rule?: string) => void;
}) {
  const a = useQuery(audit(auditId));
  return (
    <Choice
      aria-label="Only rows that break a rule"
      value={rule ?? ""}
      onChange={(e) => onChoose(e.target.value || undefined)}
      maxW="170px"
    >
      <option value="">any rule or none</option>
      {a.data?.result.findings.map((f) => (
        <option key={f.rule} value={f.rule}>
          {f.rule} ({count(f.rows)})
        </option>
      ))}
    </Choice>
  );
}

/** Whether a number lies beyond the fences of its column: a sign for above or below. */
function beyondFences(text: string, c?: Schemas["Column"]) {
  const o = c?.numbers?.outliers;
  const n = text.trim() === "" ? Number.NaN : Number(text);
  if (!o || c?.role !== "measure" || Number.isNaN(n)) {
    return undefined;
  }
  return n > o.high_fence ? "▲" : n < o.low_fence ? "▼" : undefined;
}

function Row({
  place,
  r,
  columns,
  order,
  pin,
  result,
}: {
  place: number;
  r: Schemas["ShownRow"];
  columns: string[];
  order: string[];
  pin: string[];
  result?: Schemas["Result"];
}) {
  return (
    <tr aria-rowindex={place + 2}>
      <Td
        {...right}
        position="sticky"
        left="0"
        color="quiet"
        zIndex="1"
        minW="64px"
        h={`${rowHeight}px`}
        title={`Line ${count(r.line)} of the file`}
      >
        {count(r.row)}
      </Td>
      {order.map((c) => {
        const i = columns.indexOf(c);
        const text = r.cells[i] ?? "";
        const of = result?.columns[i];
        const caught = r.caught.filter((x) => x.columns.includes(c));
        const worst = dimensions.find((d) => caught.some((x) => x.dimension === d));
        const beyond = beyondFences(text, of);
        return (
          <Td
            key={c}
            whiteSpace="nowrap"
            maxW="240px"
            overflow="hidden"
            textOverflow="ellipsis"
            boxShadow={worst ? "inset 0 -2px 0 currentColor" : undefined}
            color={worst}
            textAlign={of?.numbers ? "right" : undefined}
            title={[...caught.map((x) => x.rule), ...(beyond ? ["beyond the fences"] : []), text].join(", ")}
            {...pinnedAt(pin, c)}
          >
            {worst && <chakra.span aria-label={caughtWord[worst]}>{mark[worst]} </chakra.span>}
            {beyond && <chakra.span aria-label="beyond the fences">{beyond} </chakra.span>}
            {text === "" ? (
              !worst && (
                <chakra.span color="quiet" aria-label="missing">
                  □
                </chakra.span>
              )
            ) : (
              <Value text={text} />
            )}
          </Td>
        );
      })}
      <Td fontSize="sm" fontFamily="mono" whiteSpace="nowrap">
        {r.caught.map((x) => x.rule).join(", ")}
        {r.surplus && r.surplus.length > 0 && ` beyond the header: ${r.surplus.join(" | ")}`}
      </Td>
    </tr>
  );
}

/** The condition that a column is missing. */
export const missing = (column: string) => `${quoted(column)} IS NULL`;
