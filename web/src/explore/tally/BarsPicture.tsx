import { useToken } from "@chakra-ui/react";
import { scaleBand, scaleLinear } from "@visx/scale";
import { Frame, number, usual } from "../../shared/plot/Frame";
import { middle } from "../../shared/words";
import { apart, type Drawing, groupsOf, namesBelow, saying, seriesOf } from "./drawn";
import { calledOf, measureCalled } from "./expressions";
import { Legend, shades } from "./Legend";

/** A bar for each group; of two groupings bars side by side, or in parts of one. */
export function BarsPicture({ x: tally, says, file, open, stacked }: Drawing & { stacked: boolean }) {
  const [ink] = useToken("colors", ["ink"]);
  const groups = groupsOf(tally);
  const series = seriesOf(tally, apart);
  // Where the parts of a bar begin: parts above nothing grow up, those below it down.
  const ends = groups.map((_, i) => {
    let [up, down] = [0, 0];
    return series.map(({ values }) => {
      const v = values[i] ?? 0;
      if (!stacked) {
        return [0, v];
      }
      const from = v < 0 ? down : up;
      if (v < 0) {
        down += v;
      } else {
        up += v;
      }
      return [from, from + v];
    });
  });
  const all = ends.flat(2);
  const x = scaleBand<string>({
    domain: groups.map((g) => g.g.text),
    range: [usual.left, usual.width - usual.right],
    padding: 0.2,
  });
  const y = scaleLinear<number>({
    domain: [Math.min(0, ...all), Math.max(0, ...all)],
    range: [usual.height - usual.bottom, usual.top + 8],
    nice: true,
  });
  const every = Math.ceil(groups.length / 12);
  const wide = stacked ? x.bandwidth() : x.bandwidth() / series.length;
  return (
    <Frame
      says={says}
      name={file}
      x={x}
      xName={calledOf(tally.by[0].expression)}
      {...namesBelow(groups, x.step(), every)}
      y={y}
      yName={middle(measureCalled(tally.measures[0]), 22)}
      yFormat={number}
    >
      {groups.map(({ g, name }, i) =>
        series.map((s, k) => {
          const [from, to] = ends[i][k];
          return s.values[i] === undefined ? null : (
            // biome-ignore lint/a11y/noStaticElementInteractions: the table beneath opens the same rows by keyboard
            <rect
              key={s.name}
              x={(x(g.text) ?? 0) + (stacked ? 0 : k * wide)}
              width={Math.max(wide - 1, 0.8)}
              y={Math.min(y(from), y(to))}
              height={Math.abs(y(from) - y(to))}
              fill={ink}
              fillOpacity={shades[k]}
              stroke={ink}
              strokeWidth={0.6}
              style={{ cursor: "pointer" }}
              onClick={() => open(g, s.group)}
            >
              <title>{saying(name, s.name, s.values[i] ?? 0)}</title>
            </rect>
          );
        }),
      )}
      <Legend names={series.map((s) => s.name)} lines={false} />
    </Frame>
  );
}
