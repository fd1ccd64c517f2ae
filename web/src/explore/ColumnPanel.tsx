import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import type { ReactNode } from "react";
import type { Schemas } from "../client/client";
import { gaps, tally } from "../client/queries";
import { Mesh } from "../shared/Mesh";
import { Gaps, LargePicture } from "../shared/Picture";
import { Choice, Empty, Grid, right, Section, Shown, Td, Th, Unseen } from "../shared/parts";
import { SaveTable } from "../shared/save";
import { Value } from "../shared/Value";
import {
  beyond,
  count,
  decimal,
  dimensions,
  glance,
  missing,
  percent,
  plural,
  quoted,
  short,
} from "../shared/words";
import { Frequencies } from "./Frequencies";

type Table = Schemas["Table"];
type Audit = Schemas["AuditShown"];
type Column = Schemas["Column"];

/** Everything about one column. */
export function ColumnPanel({ t, a }: { t: Table; a: Audit }) {
  const { column } = useSearch({ from: "/tables/$id" });
  const columns = a.result.columns;
  const at = columns.findIndex((c) => c.name === column);
  if (at < 0) {
    return <Empty>The table has no column {column}; choose one in the columns view.</Empty>;
  }
  const c = columns[at];
  return (
    <>
      <HStack justify="space-between" align="baseline" flexWrap="wrap">
        <HStack align="baseline" gap="3">
          <chakra.h2 fontSize="lg" fontWeight="650" wordBreak="break-word">
            {c.name}
          </chakra.h2>
          <Text color="quiet">
            {c.role}, {c.type}; score {percent(c.score)}
          </Text>
          <Mesh mesh={c.mesh} rows={a.result.rows} name={c.name} />
        </HStack>
        <Turn t={t} columns={columns} at={at} />
      </HStack>
      {a.result.leads
        .filter((l) => l.column === c.name)
        .map((l) => (
          <Text key={l.says}>{l.says}</Text>
        ))}
      <Box
        display="grid"
        gridTemplateColumns={{ base: "minmax(0, 1fr)", lg: "minmax(0, 1fr) 330px" }}
        gap="6"
      >
        <Box minW="0">
          <LargePicture c={c} />
          <Costs t={t} a={a} c={c} />
          <Grouped t={t} columns={columns} c={c} />
          <Missing t={t} a={a} c={c} />
        </Box>
        <Box as="aside" aria-label={`Figures of ${c.name}`}>
          <Figures t={t} c={c} rows={a.result.rows} />
          <List
            title={c.at_least ? "Most frequent, at least so often" : "Most frequent"}
            of={c.frequent}
            total={c.filled}
            column={c.name}
          />
          <List title="Exceptions to the type" of={c.exceptions} total={c.mistyped ?? 0} column={c.name} />
          <List
            title={c.more_shapes ? "Shapes; there are more" : "Shapes"}
            of={c.shapes}
            total={c.filled}
            column={c.name}
          />
          <List title="Least frequent" of={c.rare} total={c.filled} column={c.name} />
        </Box>
      </Box>
    </>
  );
}

/** To the column before and after, and to any other. */
function Turn({ t, columns, at }: { t: Table; columns: Column[]; at: number }) {
  const navigate = useNavigate();
  const to = (name: string) =>
    ({ to: "/tables/$id", params: { id: String(t.id) }, search: { view: "column", column: name } }) as const;
  return (
    <HStack gap="3" fontSize="sm">
      {at > 0 && <Link {...to(columns[at - 1].name)}>← {columns[at - 1].name}</Link>}
      <Choice
        aria-label="Another column"
        value={columns[at].name}
        onChange={(e) => navigate(to(e.target.value))}
        maxW="180px"
      >
        {columns.map((c) => (
          <option key={c.name}>{c.name}</option>
        ))}
      </Choice>
      {at < columns.length - 1 && <Link {...to(columns[at + 1].name)}>{columns[at + 1].name} →</Link>}
    </HStack>
  );
}

const named: Record<number, string> = {
  0: "lowest",
  0.25: "first quartile",
  0.5: "median",
  0.75: "third quartile",
  1: "highest",
};

function Figures({ t, c, rows }: { t: Table; c: Column; rows: number }) {
  const to = (where: string) =>
    ({ to: "/tables/$id", params: { id: String(t.id) }, search: { view: "rows", where } }) as const;
  const n = c.numbers;
  const outside = n ? n.outliers.below + n.outliers.above : 0;
  const facts: [string, ReactNode][] = [
    ["filled", count(c.filled)],
    [
      "missing",
      c.missing > 0 ? (
        <Link key="m" {...to(missing(c.name))}>
          {count(c.missing)} of {count(rows)}
        </Link>
      ) : (
        "none"
      ),
    ],
    ["distinct", `${c.distinct_error ? "≈ " : ""}${count(c.distinct)}`],
    ...(n
      ? ([
          ["sum", decimal(c.sum)],
          ["mean", glance(c.mean)],
          ["deviation", n.deviation == null ? "" : short(n.deviation)],
          ["skewness", n.skewness == null ? "" : short(n.skewness)],
          ...n.quantiles.map((q) => [
            named[q.share] ?? `${100 * q.share} % lie below`,
            `${n.quantile_error && q.share > 0 && q.share < 1 ? "≈ " : ""}${short(q.number)}`,
          ]),
          [
            "beyond the fences",
            outside > 0 ? (
              <Link key="o" {...to(beyond(c.name, n.outliers.low_fence, n.outliers.high_fence))}>
                {n.outliers.unsure ? "≈ " : ""}
                {count(outside)}
              </Link>
            ) : (
              "none"
            ),
          ],
        ] as [string, ReactNode][])
      : ([
          ["from", c.lowest && <Value text={c.lowest} />],
          ["to", c.highest && <Value text={c.highest} />],
        ] as [string, ReactNode][])),
    ...(c.dates ? ([[`${c.dates.unit}s without any`, count(c.dates.empty)]] as [string, ReactNode][]) : []),
    ...(c.spaces.any > 0 ? ([["with stray spaces", count(c.spaces.any)]] as [string, ReactNode][]) : []),
    ["characters", `${c.shortest} to ${c.longest}`],
    ...dimensions.map((d) => [d, percent(c[d])] as [string, ReactNode]),
  ];
  return (
    <chakra.table w="full" fontSize="sm">
      <tbody>
        {facts
          .filter(([, v]) => v !== "" && v != null)
          .map(([name, v]) => (
            <tr key={name}>
              <chakra.td color="quiet">{name}</chakra.td>
              <chakra.td {...right}>{v}</chakra.td>
            </tr>
          ))}
      </tbody>
    </chakra.table>
  );
}

function List({
  title,
  of,
  total,
  column,
}: {
  title: string;
  of?: Schemas["Frequency"][];
  total: number;
  column: string;
}) {
  if (!of || of.length === 0) {
    return null;
  }
  return (
    <Section
      title={title}
      aside={
        <SaveTable
          name={`${column} ${title}`}
          rows={() => [["value", "rows"], ...of.map((f) => [f.text, f.rows])]}
        />
      }
    >
      <Frequencies of={of} total={total} />
    </Section>
  );
}

function Costs({ t, a, c }: { t: Table; a: Audit; c: Column }) {
  const costs = a.result.findings.filter((f) => f.columns.includes(c.name));
  return (
    <Section title="What cost it">
      {costs.length === 0 ? (
        <Text color="quiet">Nothing is wrong with its cells.</Text>
      ) : (
        costs.map((f) => (
          <Text key={f.rule} fontSize="sm">
            {f.found}{" "}
            <Link to="/tables/$id" params={{ id: String(t.id) }} search={{ view: "rows", rule: f.rule }}>
              Show {plural(f.rows, "row", "rows")}
            </Link>
          </Text>
        ))
      )}
    </Section>
  );
}

/** The column by the values of another one. */
function Grouped({ t, columns, c }: { t: Table; columns: Column[]; c: Column }) {
  const search = useSearch({ from: "/tables/$id" });
  const navigate = useNavigate();
  const others = columns.filter((o) => o.name !== c.name && (o.role === "category" || o.distinct <= 200));
  const by = others.some((o) => o.name === search.across) ? search.across : undefined;
  const measure = c.numbers ? c.name : undefined;
  const asked = (of: string) => ["rows", `filled ${of}`, `sum ${of}`, `mean ${of}`, `median ${of}`];
  const found = useQuery({
    ...tally(t.id, { by: [quoted(by ?? "")], measure: asked(quoted(c.name)) }),
    enabled: by !== undefined && measure !== undefined,
  });
  if (!measure || others.length === 0) {
    return null;
  }
  return (
    <Section
      title="By group"
      aside={
        <Choice
          aria-label="The column that groups"
          value={by ?? ""}
          onChange={(e) =>
            navigate({
              to: "/tables/$id",
              params: { id: String(t.id) },
              search: { view: "column", column: c.name, across: e.target.value || undefined },
            })
          }
        >
          <option value="">choose a column that groups</option>
          {others.map((o) => (
            <option key={o.name}>{o.name}</option>
          ))}
        </Choice>
      }
    >
      {by && (
        <Shown query={found} waiting="Looking through all rows …">
          {(x) => {
            const means = x.downs.map((d) => Number(d.values[3] || 0));
            const most = Math.max(...means.map(Math.abs), 1e-300);
            const called = (i: number) => x.by[0].groups[i];
            return (
              <>
                <Grid label={`${c.name} by ${by}`} max="300px">
                  <thead>
                    <tr>
                      <Th>{by}</Th>
                      <Th {...right}>rows</Th>
                      <Th {...right}>numbers</Th>
                      <Th {...right}>sum</Th>
                      <Th {...right}>mean</Th>
                      <Unseen>as a bar</Unseen>
                      <Th {...right}>median</Th>
                    </tr>
                  </thead>
                  <tbody>
                    {x.downs.map((d, i) => (
                      <tr key={called(i)?.text ?? "rest"}>
                        <Td>
                          {!called(i) ? (
                            <chakra.span color="quiet">{plural(x.by[0].rest, "other", "others")}</chakra.span>
                          ) : called(i).missing ? (
                            <chakra.span color="quiet">missing</chakra.span>
                          ) : (
                            <Value text={called(i).text} />
                          )}
                        </Td>
                        <Td {...right}>{count(d.rows)}</Td>
                        <Td {...right}>{count(Number(d.values[1]))}</Td>
                        <Td {...right}>{decimal(d.values[2])}</Td>
                        <Td {...right}>{glance(d.values[3])}</Td>
                        <Td w="160px" aria-hidden="true">
                          <Box h="2.5" mt="1" bg="quiet" w={`${(100 * Math.abs(means[i])) / most}%`} />
                        </Td>
                        <Td {...right}>{glance(d.values[4])}</Td>
                      </tr>
                    ))}
                  </tbody>
                </Grid>
                <Link
                  to="/tables/$id"
                  params={{ id: String(t.id) }}
                  search={{ view: "tally", down: quoted(by), measures: asked(quoted(c.name)) }}
                >
                  More of it in the tally
                </Link>
              </>
            );
          }}
        </Shown>
      )}
    </Section>
  );
}

/** Where the column is missing, by which marks, and with which other columns that goes. */
function Missing({ t, a, c }: { t: Table; a: Audit; c: Column }) {
  const partly = c.missing > 0 && c.filled > 0;
  const found = useQuery({ ...gaps(t.id, c.name), enabled: partly });
  if (c.missing === 0) {
    return null;
  }
  const marks = Object.entries(c.missing_marks ?? {}).map(([text, rows]) => ({ text, rows }));
  return (
    <Section title={`Missing in ${count(c.missing)} of ${plural(a.result.rows, "row", "rows")}`}>
      <HStack gap="4">
        <Gaps c={c} rows={a.result.rows} />
        <Text fontSize="sm" color="quiet">
          from the first row to the last;{" "}
          {marks.map((m) => `${m.text === "" ? "empty" : m.text}: ${count(m.rows)}`).join(", ")}
        </Text>
      </HStack>
      {partly && (
        <Shown query={found} waiting="Looking through all rows …">
          {(all) => {
            const strong = all.filter((g) => g.strength >= 0.1).slice(0, 4);
            return strong.length === 0 ? (
              <Text fontSize="sm">The gaps go with no other column: they are spread as if by chance.</Text>
            ) : (
              strong.map((g) => (
                <Text key={g.column} fontSize="sm">
                  The gaps go with <b>{g.column}</b> (strength {g.strength.toFixed(2)} of 1):{" "}
                  {g.values
                    .slice(0, 3)
                    .map(
                      (v) =>
                        `${v.value === "" ? "where it is missing" : v.value} lacks ${count(v.missing)} of ${count(v.rows)}`,
                    )
                    .join("; ")}
                  .
                </Text>
              ))
            );
          }}
        </Shown>
      )}
    </Section>
  );
}
