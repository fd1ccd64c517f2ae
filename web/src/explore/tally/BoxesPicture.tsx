import { Text, useToken } from "@chakra-ui/react";
import { scaleBand, scaleLinear } from "@visx/scale";
import { Frame, number, usual } from "../../shared/plot/Frame";
import { middle } from "../../shared/words";
import { boxOf, type Drawing, groupsOf, namesBelow, valued } from "./drawn";
import { calledOf } from "./expressions";

/** A box for each group, from its first to its third quartile with the median in it; thin lines reach to its extremes. */
export function BoxesPicture({ x: tally, file, open }: Drawing) {
  const [ink, accent] = useToken("colors", ["ink", "accent"]);
  const box = boxOf(tally);
  if (!box) {
    return <Text fontSize="sm">The five figures of the boxes are on their way …</Text>;
  }
  const groups = groupsOf(tally).flatMap(({ g, i, name }) => {
    const five = box.at.map((m) => valued(tally.downs[i].values[m]));
    return five.every((v) => v !== undefined) ? [{ g, name, five: five as number[] }] : [];
  });
  const x = scaleBand<string>({
    domain: groups.map((b) => b.g.text),
    range: [usual.left, usual.width - usual.right],
    padding: 0.4,
  });
  const all = groups.flatMap((b) => b.five);
  const y = scaleLinear<number>({
    domain: [Math.min(...all), Math.max(...all)],
    range: [usual.height - usual.bottom, usual.top + 8],
    nice: true,
  });
  const every = Math.ceil(groups.length / 12);
  return (
    <Frame
      says={`${calledOf(box.of)} by ${calledOf(tally.by[0].expression)}: quartiles, median and extremes`}
      name={file}
      x={x}
      xName={calledOf(tally.by[0].expression)}
      {...namesBelow(groups, x.step(), every)}
      y={y}
      yName={middle(calledOf(box.of), 22)}
      yFormat={number}
      beneath={
        <Text fontSize="sm" color="quiet">
          The thin lines reach to the lowest and highest value of a group.
        </Text>
      }
    >
      {groups.map(({ g, name, five: [low, first, median, third, high] }) => {
        const left = x(g.text) ?? 0;
        const centre = left + x.bandwidth() / 2;
        return (
          // biome-ignore lint/a11y/noStaticElementInteractions: the table beneath opens the same rows by keyboard
          <g key={g.text} stroke={ink} fill="none" style={{ cursor: "pointer" }} onClick={() => open(g)}>
            <line x1={centre} x2={centre} y1={y(low)} y2={y(first)} strokeWidth={0.8} />
            <line x1={centre} x2={centre} y1={y(third)} y2={y(high)} strokeWidth={0.8} />
            <rect
              x={left}
              width={x.bandwidth()}
              y={y(third)}
              height={Math.max(y(first) - y(third), 1)}
              fill={ink}
              fillOpacity={0.12}
            />
            <line
              x1={left}
              x2={left + x.bandwidth()}
              y1={y(median)}
              y2={y(median)}
              stroke={accent}
              strokeWidth={2.5}
            />
            <title>{`${name}: ${number(low)}, ${number(first)}, ${number(median)}, ${number(third)}, ${number(high)}`}</title>
          </g>
        );
      })}
    </Frame>
  );
}
