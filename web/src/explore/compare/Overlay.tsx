import { useToken } from "@chakra-ui/react";
import { scaleBand, scaleLinear, scaleUtc } from "@visx/scale";
import { LinePath } from "@visx/shape";
import type { Schemas } from "../../client/client";
import { AsTable } from "../../shared/plot/AsTable";
import { Frame, type Linear, number, type Time, usual } from "../../shared/plot/Frame";
import { middle, short } from "../../shared/words";

type Column = Schemas["Column"];

/** A column as it is drawn over another: steps of numbers or time, or values. Heights are shares of its rows. */
type Steps = { from: number; to: number; height: number }[];
export type Sides =
  | { kind: "numbers" | "days"; one: Steps; other: Steps }
  | { kind: "values"; values: string[]; one: number[]; other: number[] };

/** The share of the rows for each unit of the measure, so that bins of different widths can be compared. */
function density(c: Column): Steps | undefined {
  const h = c.numbers?.histogram;
  const n = c.numbers?.count ?? 0;
  return h && h.width > 0 && n > 0
    ? h.rows.map((rows, i) => ({
        from: h.from + i * h.width,
        to: h.from + (i + 1) * h.width,
        height: rows / n / h.width,
      }))
    : undefined;
}

function calendar(c: Column): Steps | undefined {
  const periods = c.dates?.periods;
  if (!periods || periods.length === 0) {
    return undefined;
  }
  const starts = periods.map((p) =>
    Date.parse(p.start.length === 4 ? `${p.start}-01-01` : p.start.length === 7 ? `${p.start}-01` : p.start),
  );
  const total = periods.reduce((n, p) => n + p.rows, 0);
  return periods.map((p, i) => {
    const end = starts[i + 1] ?? starts[i] + (starts[i] - (starts[i - 1] ?? starts[i] - 86_400_000));
    return { from: starts[i], to: end, height: ((p.rows / total) * 86_400_000) / (end - starts[i]) };
  });
}

/** How two columns are drawn over each other; nothing where they are of different kinds. */
export function sidesOf(one: Column, other: Column): Sides | undefined {
  const numbers = [density(one), density(other)];
  if (numbers[0] && numbers[1]) {
    return { kind: "numbers", one: numbers[0], other: numbers[1] };
  }
  const days = [calendar(one), calendar(other)];
  if (days[0] && days[1]) {
    return { kind: "days", one: days[0], other: days[1] };
  }
  if (numbers[0] || numbers[1] || days[0] || days[1]) {
    return undefined;
  }
  const share = (c: Column, v: string) =>
    (((c.values?.length ? c.values : c.frequent).find((f) => f.text === v)?.rows ?? 0) /
      Math.max(c.filled, 1)) *
    100;
  const values = [...new Set([...one.frequent, ...other.frequent].map((f) => f.text))].slice(0, 16);
  return values.length > 0
    ? {
        kind: "values",
        values,
        one: values.map((v) => share(one, v)),
        other: values.map((v) => share(other, v)),
      }
    : undefined;
}

/** Two distributions over each other: this one in ink, the other in the accent, dashed. */
export function Overlay(props: { sides: Sides; name: string; file: string; called: [string, string] }) {
  const { sides, name, called } = props;
  return sides.kind === "values" ? (
    <Bars {...props} sides={sides} />
  ) : (
    <Densities
      one={sides.one}
      other={sides.other}
      kind={sides.kind}
      name={name}
      file={props.file}
      called={called}
    />
  );
}

function Legend({ called }: { called: [string, string] }) {
  const [ink, accent] = useToken("colors", ["ink", "accent"]);
  return (
    <g style={{ fontSize: 11 }} fill={ink}>
      {called.map((text, i) => (
        <g key={text} transform={`translate(${usual.left + 150 + i * 230}, 8)`}>
          <line
            x1="0"
            x2="24"
            y1="0"
            y2="0"
            stroke={i === 0 ? ink : accent}
            strokeWidth="2"
            strokeDasharray={i === 0 ? undefined : "5 3"}
          />
          <text x="30" y="4" stroke="none">
            {middle(text, 30)}
          </text>
        </g>
      ))}
    </g>
  );
}

function Densities(props: {
  one: Steps;
  other: Steps;
  kind: "numbers" | "days";
  name: string;
  file: string;
  called: [string, string];
}) {
  const [ink, accent] = useToken("colors", ["ink", "accent"]);
  const all = [...props.one, ...props.other];
  const domain = [Math.min(...all.map((s) => s.from)), Math.max(...all.map((s) => s.to))] as [number, number];
  const range = [usual.left, usual.width - usual.right] as [number, number];
  const x: Linear | Time =
    props.kind === "numbers" ? scaleLinear<number>({ domain, range }) : scaleUtc<number>({ domain, range });
  const y = scaleLinear<number>({
    domain: [0, Math.max(...all.map((s) => s.height))],
    range: [usual.height - usual.bottom, usual.top + 6],
    nice: true,
  });
  const outline = (steps: Steps) => [
    [steps[0].from, 0],
    ...steps.flatMap((s) => [
      [s.from, s.height],
      [s.to, s.height],
    ]),
    [steps[steps.length - 1].to, 0],
  ];
  const label = (v: number) =>
    props.kind === "numbers" ? number(v) : new Date(v).toISOString().slice(0, 10);
  return (
    <Frame
      says={`${props.name}: how its ${props.kind === "numbers" ? "numbers" : "dates"} lie in both`}
      name={props.file}
      x={x}
      xName={props.name}
      y={y}
      yName={props.kind === "numbers" ? "share of the rows for each unit" : "share of the rows for each day"}
      yFormat={(v: number) => short(v)}
      beneath={
        <AsTable
          heads={["from", "to", "share of the rows"]}
          rows={() =>
            [props.one, props.other].flatMap((steps, i) => [
              [props.called[i], "", ""],
              ...steps.map((s) => [
                label(s.from),
                label(s.to),
                short((s.to - s.from) * s.height * (props.kind === "numbers" ? 1 : 1 / 86_400_000)),
              ]),
            ])
          }
        />
      }
    >
      <LinePath
        data={outline(props.other)}
        x={(p) => x(p[0])}
        y={(p) => y(p[1])}
        stroke={accent}
        strokeWidth={1.8}
        strokeDasharray="5 3"
        fill="none"
      />
      <LinePath
        data={outline(props.one)}
        x={(p) => x(p[0])}
        y={(p) => y(p[1])}
        stroke={ink}
        strokeWidth={1.8}
        fill={ink}
        fillOpacity={0.08}
      />
      <Legend called={props.called} />
    </Frame>
  );
}

function Bars(props: {
  sides: Extract<Sides, { kind: "values" }>;
  name: string;
  file: string;
  called: [string, string];
}) {
  const [ink, accent] = useToken("colors", ["ink", "accent"]);
  const { values, one, other } = props.sides;
  const x = scaleBand<string>({
    domain: values,
    range: [usual.left, usual.width - usual.right],
    padding: 0.25,
  });
  const y = scaleLinear<number>({
    domain: [0, Math.max(...one, ...other)],
    range: [usual.height - usual.bottom, usual.top + 6],
    nice: true,
  });
  const wide = x.bandwidth() / 2;
  const floor = usual.height - usual.bottom;
  const bars: { of: number[]; fill: string; solid: boolean }[] = [
    { of: one, fill: ink, solid: true },
    { of: other, fill: accent, solid: false },
  ];
  return (
    <Frame
      says={`${props.name}: the shares of its most frequent values in both`}
      name={props.file}
      x={x}
      xName={props.name}
      xFormat={(v: string) => middle(v, Math.max(Math.floor(x.step() / 6.5), 4))}
      y={y}
      yName="% of the filled cells"
      beneath={
        <AsTable
          heads={[props.name, ...props.called]}
          rows={() => values.map((v, i) => [v, one[i].toFixed(2), other[i].toFixed(2)])}
        />
      }
    >
      {bars.map(({ of, fill, solid }, side) =>
        values.map((v, i) => (
          <rect
            key={`${fill} ${v}`}
            x={(x(v) ?? 0) + side * wide}
            width={Math.max(wide - 1, 1)}
            y={y(of[i])}
            height={floor - y(of[i])}
            fill={fill}
            fillOpacity={solid ? 0.8 : 0.2}
            stroke={fill}
            strokeDasharray={solid ? undefined : "4 2"}
          >
            <title>{`${v}: ${of[i].toFixed(2)} % in ${props.called[side]}`}</title>
          </rect>
        )),
      )}
      <Legend called={props.called} />
    </Frame>
  );
}
