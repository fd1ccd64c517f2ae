import { HStack, Text, useToken } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "../client/client";
import { datasetCourse } from "../client/queries";
import { Choice } from "../shared/controls";
import { Grid, right, Td, Th } from "../shared/grid";
import { Section } from "../shared/parts";
import { Empty, Shown } from "../shared/states";
import { count, percent, plural, when } from "../shared/words";

type Point = Schemas["CoursePoint"];
type Line = { name: string; values: (number | undefined)[]; says: (v: number) => string };

const kinds = {
  rules: "rows that break each rule",
  scores: "the score of each column",
  gaps: "missing cells of each column",
  sums: "rows, and sums of measures",
} as const;

/** How something went from table to table: a line for each rule or column, whose points open the audit. */
export function CourseSection({ name }: { name: string }) {
  const [origin, setOrigin] = useState<"delivery" | "cleaned" | "merged">("delivery");
  const [kind, setKind] = useState<keyof typeof kinds>("rules");
  const course = useQuery(datasetCourse(name, origin));
  return (
    <Section
      title="Over time"
      aside={
        <HStack gap="2">
          <Choice
            aria-label="What is followed"
            value={kind}
            onChange={(e) => setKind(e.target.value as keyof typeof kinds)}
          >
            {Object.entries(kinds).map(([k, says]) => (
              <option key={k} value={k}>
                {says}
              </option>
            ))}
          </Choice>
          <Choice
            aria-label="Of which tables"
            value={origin}
            onChange={(e) => setOrigin(e.target.value as typeof origin)}
          >
            <option value="delivery">deliveries</option>
            <option value="cleaned">cleaned tables</option>
            <option value="merged">merged tables</option>
          </Choice>
        </HStack>
      }
    >
      <Shown query={course}>
        {(c) =>
          c.points.length < 2 ? (
            <Empty>
              A line needs two tables that were audited; there {c.points.length === 1 ? "is one" : "is none"}.
            </Empty>
          ) : (
            <>
              <Lines points={c.points} lines={linesOf(kind, c.points)} kind={kind} />
              {c.earlier > 0 && (
                <Text fontSize="sm" color="quiet">
                  {plural(c.earlier, "table", "tables")} came before these.
                </Text>
              )}
            </>
          )
        }
      </Shown>
    </Section>
  );
}

/** What is drawn, what moved most first; what is the same in all tables is left out of rules and gaps where it is nothing. */
function linesOf(kind: keyof typeof kinds, points: Point[]): Line[] {
  const names = (of: (p: Point) => Record<string, unknown>) => [
    ...new Set(points.flatMap((p) => Object.keys(of(p)))),
  ];
  const most = (l: Line) => Math.max(...l.values.map((v) => v ?? 0));
  const moved = (l: Line) => most(l) - Math.min(...l.values.map((v) => v ?? 0));
  if (kind === "scores") {
    const least = (l: Line) => Math.min(...l.values.map((v) => v ?? 100));
    return names((p) => p.scores)
      .map((name) => ({ name, values: points.map((p) => p.scores[name]), says: percent }))
      .sort((a, b) => least(a) - least(b));
  }
  if (kind === "sums") {
    return [
      { name: "rows", values: points.map((p) => p.rows), says: count },
      ...names((p) => p.sums).map((name) => ({
        name: `sum of ${name}`,
        values: points.map((p) => (p.sums[name] === undefined ? undefined : Number(p.sums[name]))),
        says: (v: number) => v.toLocaleString("en"),
      })),
    ];
  }
  return names((p) => p[kind])
    .map((name) => ({ name, values: points.map((p) => p[kind][name]), says: count }))
    .filter((l) => most(l) > 0)
    .sort((a, b) => moved(b) - moved(a) || most(b) - most(a));
}

const width = 420;
const height = 30;

function Lines({ points, lines, kind }: { points: Point[]; lines: Line[]; kind: string }) {
  if (lines.length === 0) {
    return <Empty>None of these tables has any.</Empty>;
  }
  return (
    <Grid label="Over time" max="420px">
      <thead>
        <tr>
          <Th>{kind === "rules" ? "rule" : kind === "sums" ? "" : "column"}</Th>
          <Th>
            {when(points[0].at)} to {when(points[points.length - 1].at)}
          </Th>
          <Th {...right}>least</Th>
          <Th {...right}>most</Th>
          <Th {...right}>last</Th>
        </tr>
      </thead>
      <tbody>
        {lines.map((l) => {
          const there = l.values.flatMap((v) => (v === undefined ? [] : [v]));
          const last = l.values[l.values.length - 1];
          return (
            <tr key={l.name}>
              <Td>{l.name}</Td>
              <Td>
                <Drawn line={l} points={points} kind={kind} />
              </Td>
              <Td {...right}>{l.says(Math.min(...there))}</Td>
              <Td {...right}>{l.says(Math.max(...there))}</Td>
              <Td {...right}>{last === undefined ? "not judged" : l.says(last)}</Td>
            </tr>
          );
        })}
      </tbody>
    </Grid>
  );
}

function Drawn({ line, points, kind }: { line: Line; points: Point[]; kind: string }) {
  const [ink, accent] = useToken("colors", ["ink", "accent"]);
  const navigate = useNavigate();
  const there = line.values.flatMap((v) => (v === undefined ? [] : [v]));
  const low = kind === "rules" || kind === "gaps" ? 0 : Math.min(...there);
  const high = Math.max(...there);
  const x = (i: number) => 6 + (i * (width - 12)) / (points.length - 1);
  const y = (v: number) => height - 6 - ((v - low) / (high - low || 1)) * (height - 12);
  const open = (p: Point) =>
    navigate({
      to: "/tables/$id",
      params: { id: String(p.table) },
      search:
        kind === "rules"
          ? { view: "rows", rule: line.name, audit: p.audit }
          : { view: "columns", audit: p.audit },
    });
  return (
    <svg width={width} height={height} role="group" aria-label={`${line.name} over time`}>
      <polyline
        points={line.values.flatMap((v, i) => (v === undefined ? [] : [`${x(i)},${y(v)}`])).join(" ")}
        fill="none"
        stroke={ink}
        strokeWidth="1.2"
      />
      {line.values.map((v, i) => {
        const p = points[i];
        if (v === undefined) {
          return null;
        }
        const title = `${line.says(v)}: ${p.file_name}, table ${p.table}, ${when(p.at)}`;
        return (
          <circle
            key={p.table}
            cx={x(i)}
            cy={y(v)}
            r="4"
            fill={accent}
            role="button"
            tabIndex={0}
            aria-label={title}
            style={{ cursor: "pointer" }}
            onClick={() => open(p)}
            onKeyDown={(e) => e.key === "Enter" && open(p)}
          >
            <title>{title}</title>
          </circle>
        );
      })}
    </svg>
  );
}
