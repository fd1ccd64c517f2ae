import { chakra } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import type { ReactNode } from "react";
import type { Schemas } from "../../client/client";
import { right } from "../../shared/grid";
import { Section } from "../../shared/parts";
import { SaveTable } from "../../shared/save";
import { Term } from "../../shared/Term";
import { type Explained, terms } from "../../shared/terms";
import { Value } from "../../shared/Value";
import { beyond, count, decimal, dimensions, glance, missing, percent, short } from "../../shared/words";
import { Frequencies } from "../Frequencies";

type Column = Schemas["Column"];
type Table = Schemas["Table"];

const named: Record<number, string> = {
  0: "lowest",
  0.25: "first quartile",
  0.5: "median",
  0.75: "third quartile",
  1: "highest",
};

export function Figures({ t, c, rows }: { t: Table; c: Column; rows: number }) {
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
    ...(c.estimated
      ? ([
          [
            "of these estimated",
            <Link
              key="e"
              to="/tables/$id"
              params={{ id: String(t.id) }}
              search={{ view: "rows", estimated: c.name }}
            >
              {count(c.estimated)}
            </Link>,
          ],
        ] as [string, ReactNode][])
      : []),
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
              <chakra.td color="quiet">
                {name in terms ? <Term of={name as Explained} example={exampleOf(name, c)} /> : name}
              </chakra.td>
              <chakra.td {...right}>{v}</chakra.td>
            </tr>
          ))}
      </tbody>
    </chakra.table>
  );
}

/** What a term means for this column, in its own numbers. */
function exampleOf(name: string, c: Column): string | undefined {
  const n = c.numbers;
  const at = (share: number) => n?.quantiles.find((q) => q.share === share)?.number;
  switch (name) {
    case "distinct":
      return `${count(c.distinct)} in ${count(c.filled)} filled cells.`;
    case "median":
    case "first quartile":
    case "third quartile": {
      const share = { median: 0.5, "first quartile": 0.25, "third quartile": 0.75 }[name];
      const v = at(share);
      return v === undefined ? undefined : `${100 * share} of 100 values of ${c.name} lie below ${short(v)}.`;
    }
    case "beyond the fences":
      return (
        n &&
        `the fences of ${c.name} stand at ${short(n.outliers.low_fence)} and ${short(n.outliers.high_fence)}.`
      );
    case "deviation":
      return n?.deviation == null
        ? undefined
        : `${c.name} lies ${short(n.deviation)} around ${glance(c.mean)}, typically.`;
    case "completeness":
    case "validity":
    case "uniqueness":
    case "consistency":
      return `${percent(c[name])} of 100 cells of ${c.name}.`;
  }
  return undefined;
}

export function List({
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
