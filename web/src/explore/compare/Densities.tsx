import { useToken } from "@chakra-ui/react";
import { scaleLinear, scaleUtc } from "@visx/scale";
import { LinePath } from "@visx/shape";
import { AsTable } from "../../shared/plot/AsTable";
import { Frame, type Linear, number, type Time, usual } from "../../shared/plot/Frame";
import { middle, short } from "../../shared/words";
import type { Steps } from "./sides";

export function Legend({ called }: { called: [string, string] }) {
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

export function Densities(props: {
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
      xFormat={(v: number | Date) => label(Number(v))}
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
