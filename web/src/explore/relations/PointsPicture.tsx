import { useToken } from "@chakra-ui/react";
import { scaleLinear } from "@visx/scale";
import type { Schemas } from "../../client/client";
import { AsTable } from "../../shared/plot/AsTable";
import { Frame, number, type Size } from "../../shared/plot/Frame";
import { plural } from "../../shared/words";

const size: Size = { width: 760, height: 380, left: 80, right: 20, top: 18, bottom: 42 };

/** Rows as points of two columns, and the line of least squares through all rows. */
export function PointsPicture(props: {
  t: Schemas["Table"];
  p: Schemas["Points"];
  open: (row: number) => void;
}) {
  const { t, p } = props;
  const [ink, accent] = useToken("colors", ["ink", "accent"]);
  const extent = (values: number[]): [number, number] => {
    const low = values.reduce((a, b) => Math.min(a, b), values[0]);
    const high = values.reduce((a, b) => Math.max(a, b), values[0]);
    return low === high ? [low - 1, high + 1] : [low, high];
  };
  const xs = extent(p.points.map((q) => q.x));
  const x = scaleLinear<number>({ domain: xs, range: [size.left, size.width - size.right], nice: true });
  const y = scaleLinear<number>({
    domain: extent(p.points.map((q) => q.y)),
    range: [size.height - size.bottom, size.top],
    nice: true,
  });
  const line = (at: number) => (p.slope ?? 0) * at + (p.intercept ?? 0);
  const says = `${p.y} against ${p.x}, ${plural(p.points.length, "row", "rows")} of ${t.file_name}`;
  return (
    <Frame
      says={says}
      name={`${t.dataset}-${p.x}-${p.y}`}
      size={size}
      x={x}
      xName={p.x}
      y={y}
      yName={p.y}
      beneath={
        <AsTable
          heads={["row", p.x, p.y]}
          rows={() => p.points.map((q) => [q.row, number(q.x), number(q.y)])}
        />
      }
    >
      <clipPath id="inside">
        <rect
          x={size.left}
          y={size.top}
          width={size.width - size.left - size.right}
          height={size.height - size.top - size.bottom}
        />
      </clipPath>
      {p.points.map((q) => (
        // biome-ignore lint/a11y/noStaticElementInteractions: the table beneath names the rows for the keyboard
        <circle
          key={q.row}
          cx={x(q.x)}
          cy={y(q.y)}
          r={2.5}
          fill={ink}
          fillOpacity={0.35}
          style={{ cursor: "pointer" }}
          onClick={() => props.open(q.row)}
        >
          <title>{`row ${q.row}: ${p.x} ${number(q.x)}, ${p.y} ${number(q.y)}`}</title>
        </circle>
      ))}
      {p.slope != null && (
        <g clipPath="url(#inside)">
          <line
            x1={x(xs[0])}
            y1={y(line(xs[0]))}
            x2={x(xs[1])}
            y2={y(line(xs[1]))}
            stroke={accent}
            strokeWidth={2}
          />
        </g>
      )}
    </Frame>
  );
}
