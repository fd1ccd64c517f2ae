import { useToken } from "@chakra-ui/react";
import { scaleBand, scaleLinear } from "@visx/scale";
import { AsTable } from "../../shared/plot/AsTable";
import { Frame, usual } from "../../shared/plot/Frame";
import { middle } from "../../shared/words";
import { Legend } from "./Densities";
import type { Sides } from "./sides";

export function Bars(props: {
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
