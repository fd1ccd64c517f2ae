import { useToken } from "@chakra-ui/react";
import { scaleBand, scaleLinear } from "@visx/scale";
import type { Schemas } from "../client/client";
import { AsTable } from "../shared/plot/AsTable";
import { Frame, usual } from "../shared/plot/Frame";
import { short } from "../shared/words";
import { stepName } from "./ledger";

/** The draws of a method beside each other: how far they differ says how unsure the estimates are. */
export function Draws({ column, way }: { column: string; way: Schemas["Comparison"]["ways"][number] }) {
  const [ink, accent] = useToken("colors", ["ink", "accent"]);
  const x = scaleBand<string>({
    domain: way.draws.map((_, i) => String(i + 1)),
    range: [usual.left, usual.width - usual.right],
    padding: 0.35,
  });
  const y = scaleLinear<number>({
    domain: [Math.min(...way.draws.map((d) => d.lowest)), Math.max(...way.draws.map((d) => d.highest))],
    range: [usual.height - usual.bottom, usual.top + 6],
    nice: true,
  });
  const width = x.bandwidth();
  return (
    <Frame
      says={`${column}: its estimates by ${stepName(way.method)}, draw by draw`}
      name={`${column}_draws`}
      x={x}
      xName="draw; the table has the first"
      y={y}
      yName={column}
      yFormat={(v: number) => short(v)}
      beneath={
        <AsTable
          heads={["draw", "lowest", "first quartile", "median", "third quartile", "highest", "mean"]}
          rows={() =>
            way.draws.map((d, i) => [
              i + 1,
              ...[d.lowest, d.lower, d.median, d.upper, d.highest, d.mean].map((v) => short(v)),
            ])
          }
        />
      }
    >
      {way.draws.map((d, i) => {
        const at = x(String(i + 1)) ?? 0;
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: a draw is its number
          <g key={i} stroke={i === 0 ? accent : ink} fill="none">
            <line x1={at + width / 2} x2={at + width / 2} y1={y(d.lowest)} y2={y(d.lower)} />
            <line x1={at + width / 2} x2={at + width / 2} y1={y(d.upper)} y2={y(d.highest)} />
            <rect
              x={at}
              width={width}
              y={y(d.upper)}
              height={Math.max(1, y(d.lower) - y(d.upper))}
              strokeWidth={i === 0 ? 2 : 1}
            />
            <line x1={at} x2={at + width} y1={y(d.median)} y2={y(d.median)} strokeWidth="2" />
          </g>
        );
      })}
    </Frame>
  );
}
