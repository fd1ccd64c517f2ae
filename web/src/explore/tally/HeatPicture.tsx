import { useToken } from "@chakra-ui/react";
import { scaleBand } from "@visx/scale";
import { Frame, type Size } from "../../shared/plot/Frame";
import { middle, short } from "../../shared/words";
import { type Drawing, groupsOf, namesBelow, saying, seriesOf } from "./drawn";
import { calledOf, measureCalled } from "./expressions";

const most = 40;

/** Two groupings against each other: the darker a cell, the more; below nothing it is hatched. */
export function HeatPicture({ x: tally, says, file, open }: Drawing) {
  const [ink, paper, quiet] = useToken("colors", ["ink", "paper", "quiet"]);
  const groups = groupsOf(tally).slice(0, most);
  const series = seriesOf(tally, most).filter((s) => !s.group?.missing);
  const size: Size = {
    width: Math.min(Math.max(150 + groups.length * 46, 420), 1180),
    height: 62 + series.length * 24,
    left: 140,
    right: 14,
    top: 20,
    bottom: 42,
  };
  const x = scaleBand<string>({
    domain: groups.map((g) => g.g.text),
    range: [size.left, size.width - size.right],
  });
  const y = scaleBand<string>({
    domain: series.map((s) => s.name),
    range: [size.top, size.height - size.bottom],
  });
  // Even the darkest cell is light enough for the number in it.
  const greatest = Math.max(
    0,
    ...series.flatMap((s) => s.values.slice(0, most)).map((v) => Math.abs(v ?? 0)),
  );
  const every = Math.ceil(60 / x.step());
  const numbers = x.step() >= 40;
  return (
    <Frame
      says={`${says}${groupsOf(tally).length > most ? `; the first ${most} of ${groupsOf(tally).length} groups` : ""}`}
      name={file}
      size={size}
      x={x}
      xName={calledOf(tally.by[0].expression)}
      {...namesBelow(groups, x.step(), every)}
      y={y}
      yName={`${calledOf(tally.by[1].expression)}; ${measureCalled(tally.measures[0])}`}
      yFormat={(text: string) => middle(text, 20)}
    >
      <defs>
        <pattern id="below" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="5" height="5" fill={paper} />
          <rect width="2.4" height="5" fill={ink} />
        </pattern>
      </defs>
      {series.map((s) =>
        groups.map(({ g, name }, i) => {
          const v = s.values[i];
          const strength = v === undefined || greatest === 0 ? 0 : Math.abs(v) / greatest;
          return (
            // biome-ignore lint/a11y/noStaticElementInteractions: the table beneath opens the same rows by keyboard
            <g
              key={g.text}
              transform={`translate(${x(g.text)} ${y(s.name)})`}
              style={{ cursor: v === undefined ? undefined : "pointer" }}
              onClick={v === undefined ? undefined : () => open(g, s.group)}
            >
              <rect
                width={x.bandwidth() - 1}
                height={y.bandwidth() - 1}
                fill={paper}
                stroke={quiet}
                strokeWidth={0.3}
              />
              {v !== undefined && (
                <rect
                  width={x.bandwidth() - 1}
                  height={y.bandwidth() - 1}
                  fill={v < 0 ? "url(#below)" : ink}
                  fillOpacity={v < 0 ? 1 : strength * 0.48}
                  opacity={v < 0 ? strength : 1}
                />
              )}
              {v !== undefined && numbers && (
                <text
                  x={x.bandwidth() / 2}
                  y={y.bandwidth() / 2 + 4}
                  textAnchor="middle"
                  style={{ fontSize: 10 }}
                  fill={ink}
                >
                  {short(v)}
                </text>
              )}
              <title>{v === undefined ? `${name}, ${s.name}: nothing` : saying(name, s.name, v)}</title>
            </g>
          );
        }),
      )}
    </Frame>
  );
}
