import { Box, chakra, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { lineage } from "../client/queries";
import { Section } from "../shared/parts";
import { Shown } from "../shared/states";
import { count, middle, originWord, percent, plural, when } from "../shared/words";
import { TraceRow } from "./TraceRow";

type Lineage = Schemas["Lineage"];
type Table = Schemas["Table"];

/** What a table was made of and what was made of it, as a picture; and where one of its rows is from. */
export function LineagePanel({ t }: { t: Table }) {
  const found = useQuery(lineage(t.id));
  return (
    <>
      <Section
        title="What it was made of, and what was made of it"
        aside={
          <a href={`/api/v1/tables/${t.id}/provenance`} download>
            As W3C PROV
          </a>
        }
      >
        <Shown query={found}>{(l) => <Picture l={l} />}</Shown>
      </Section>
      <TraceRow t={t} />
    </>
  );
}

/** A box of the picture: a table, several tables of one dataset that are alike in what they have to do with others, or a certificate. */
type Node = {
  key: string;
  tables: Table[];
  certificate?: Schemas["Certificate"];
  column: number;
  of: string[];
};

/** From how many tables of one dataset on they are one box. */
const alike = 4;

/** The boxes, in columns from what arrived to what was certified. */
function nodesOf(l: Lineage): Node[] {
  const of = new Map<number, number[]>();
  const makes = new Map<number, number[]>();
  for (const link of l.links) {
    of.set(link.made, [...(of.get(link.made) ?? []), link.of]);
    makes.set(link.of, [...(makes.get(link.of) ?? []), link.made]);
  }
  const column = new Map<number, number>();
  // A table comes after all that it was made of, which have lower numbers.
  for (const t of [...l.tables].sort((a, b) => a.id - b.id)) {
    column.set(t.id, Math.max(0, ...(of.get(t.id) ?? []).map((i) => (column.get(i) ?? 0) + 1)));
  }
  const groups = new Map<string, Table[]>();
  for (const t of l.tables) {
    // Deliveries that were each cleaned by itself are alike once their cleaned tables are.
    const key = [t.dataset, t.origin, column.get(t.id), t.id === l.table ? "this" : ""].join(" ");
    groups.set(key, [...(groups.get(key) ?? []), t]);
  }
  const nodes: Node[] = [];
  const keyOf = new Map<number, string>();
  for (const [key, tables] of groups) {
    for (const some of tables.length >= alike ? [tables] : tables.map((t) => [t])) {
      const own = some.length > 1 ? key : `table ${some[0].id}`;
      for (const t of some) {
        keyOf.set(t.id, own);
      }
      nodes.push({ key: own, tables: some, column: column.get(some[0].id) ?? 0, of: [] });
    }
  }
  for (const n of nodes) {
    n.of = [...new Set(n.tables.flatMap((t) => (of.get(t.id) ?? []).map((i) => keyOf.get(i) ?? "")))];
  }
  for (const c of l.certificates) {
    nodes.push({
      key: `certificate ${c.id}`,
      tables: [],
      certificate: c,
      column: (column.get(c.table_id) ?? 0) + 1,
      of: [keyOf.get(c.table_id) ?? ""],
    });
  }
  return nodes;
}

const box = { width: 216, height: 62, gapX: 56, gapY: 12 };

type Placed = Node & { x: number; y: number };

/** Where each box stands: under those that it follows from, as near as there is room. */
function placed(nodes: Node[]): Placed[] {
  const columns = Math.max(0, ...nodes.map((n) => n.column)) + 1;
  const out = new Map<string, Placed>();
  for (let column = 0; column < columns; column++) {
    const middleOf = (n: Node) => {
      const ys = n.of.map((k) => out.get(k)?.y ?? 0);
      return ys.length === 0 ? 0 : ys.reduce((a, b) => a + b, 0) / ys.length;
    };
    const here = nodes
      .filter((n) => n.column === column)
      .map((n) => ({ n, wish: middleOf(n) }))
      .sort((a, b) => a.wish - b.wish);
    let free = 0;
    for (const { n, wish } of here) {
      const y = Math.max(free, column === 0 ? 0 : wish);
      out.set(n.key, { ...n, x: column * (box.width + box.gapX), y });
      free = y + box.height + box.gapY;
    }
  }
  return [...out.values()];
}

function Picture({ l }: { l: Lineage }) {
  const nodes = placed(nodesOf(l));
  const by = new Map(nodes.map((n) => [n.key, n]));
  const width = Math.max(...nodes.map((n) => n.x)) + box.width;
  const height = Math.max(...nodes.map((n) => n.y)) + box.height;
  return (
    <Box overflow="auto" tabIndex={0} role="group" aria-label="Lineage" py="1">
      <Box position="relative" style={{ width, height }}>
        <svg width={width} height={height} aria-hidden="true" style={{ position: "absolute" }}>
          {nodes.flatMap((n) =>
            n.of.map((k) => {
              const from = by.get(k);
              if (!from) {
                return null;
              }
              const x1 = from.x + box.width;
              const y1 = from.y + box.height / 2;
              const y2 = n.y + box.height / 2;
              const half = (x1 + n.x) / 2;
              return (
                <path
                  key={`${k} ${n.key}`}
                  d={`M${x1},${y1}C${half},${y1} ${half},${y2} ${n.x},${y2}`}
                  fill="none"
                  stroke="currentColor"
                  opacity={0.45}
                  strokeWidth={n.tables.length > 1 ? 3 : 1.5}
                />
              );
            }),
          )}
        </svg>
        <chakra.ul listStyleType="none" m="0" p="0">
          {nodes.map((n) => (
            <chakra.li
              key={n.key}
              position="absolute"
              style={{ left: n.x, top: n.y, width: box.width, height: box.height }}
              bg="sheet"
              borderWidth={n.tables.some((t) => t.id === l.table) ? "2px" : "1px"}
              borderColor={n.tables.some((t) => t.id === l.table) ? "ink" : "line"}
              borderStyle={n.tables.some((t) => t.withdrawn_at) ? "dashed" : "solid"}
              px="2"
              py="1"
              overflow="hidden"
              lineHeight="1.25"
            >
              <Said n={n} />
            </chakra.li>
          ))}
        </chakra.ul>
      </Box>
    </Box>
  );
}

/** What a box says. */
function Said({ n }: { n: Node }) {
  if (n.certificate) {
    return (
      <>
        <Link to="/certificates/$id" params={{ id: String(n.certificate.id) }}>
          certificate {n.certificate.id}
        </Link>
        <Text fontSize="xs" color="quiet">
          {n.certificate.created_by}, {when(n.certificate.created_at)}
        </Text>
        {n.certificate.withdrawn != null && <Text fontSize="xs">its table was withdrawn</Text>}
      </>
    );
  }
  const [t] = n.tables;
  if (n.tables.length > 1) {
    const rows = n.tables.reduce((sum, one) => sum + (one.rows ?? 0), 0);
    return (
      <>
        <Link to="/datasets/$name" params={{ name: t.dataset }} title={t.dataset}>
          {middle(t.dataset, 28)}
        </Link>
        <Text fontSize="xs">
          {count(n.tables.length)} {t.origin === "delivery" ? "deliveries" : `${originWord[t.origin]}s`},{" "}
          {plural(rows, "row", "rows")}
        </Text>
        <Text fontSize="xs" color="quiet" truncate>
          tables {n.tables.map((one) => one.id).join(", ")}
        </Text>
      </>
    );
  }
  return (
    <>
      <Link to="/tables/$id" params={{ id: String(t.id) }} title={`${t.dataset}, ${t.file_name}`}>
        {middle(t.dataset, 28)}
      </Link>
      <Text fontSize="xs" truncate>
        {originWord[t.origin]} {t.id}
        {t.rows != null && `, ${count(t.rows)} rows`}
        {t.score != null && `, ${percent(t.score)} ${t.passed ? "passed" : "fell short"}`}
      </Text>
      <Text fontSize="xs" color="quiet" truncate title={t.declaration ?? t.file_name}>
        {t.withdrawn_at ? "withdrawn" : (t.declaration ?? t.file_name)}
      </Text>
    </>
  );
}
