import { useToken } from "@chakra-ui/react";
import { scaleBand, scaleLinear, scaleUtc } from "@visx/scale";
import { LinePath } from "@visx/shape";
import { Frame, type Linear, number, type Time, usual } from "../../shared/plot/Frame";
import { middle } from "../../shared/words";
import { apart, type Drawing, groupsOf, saying, seriesOf } from "./drawn";
import { calledOf, groupingOf, measureCalled, weekday } from "./expressions";
import { dashes, Legend } from "./Legend";

/** A line over periods or steps, to scale; it breaks where there is nothing. */
export function LinesPicture({ x: tally, says, file, open }: Drawing) {
  const [ink] = useToken("colors", ["ink"]);
  const by = tally.by[0];
  const groups = groupsOf(tally);
  const series = seriesOf(tally, apart);
  const range = [usual.left + 8, usual.width - usual.right - 8] as [number, number];
  const dated = by.kind === "date" || by.kind === "datetime";
  const places = groups.map(({ g }) => (dated ? Date.parse(g.text) : Number(g.text)));
  const domain: [number, number] = [Math.min(...places), Math.max(...places)];
  const grain = groupingOf(by.expression).grain;
  const numeric = scaleLinear<number>({ domain, range });
  const dates = scaleUtc<number>({ domain, range });
  const names = scaleBand<string>({ domain: groups.map((g) => g.g.text), range });
  const called = !dated && grain === weekday;
  const at = (i: number) =>
    called ? (names(groups[i].g.text) ?? 0) + names.bandwidth() / 2 : (dated ? dates : numeric)(places[i]);
  const all = series.flatMap((s) => s.values).filter((v): v is number => v !== undefined);
  const y = scaleLinear<number>({
    domain: [Math.min(0, ...all), Math.max(0, ...all)],
    range: [usual.height - usual.bottom, usual.top + 8],
    nice: true,
  });
  const every = Math.ceil(groups.length / 9);
  return (
    <Frame
      says={says}
      name={file}
      x={(called ? names : dated ? dates : numeric) as Linear | Time}
      xName={calledOf(by.expression)}
      xTicks={called ? undefined : dated ? places.filter((_, i) => i % every === 0) : undefined}
      xFormat={
        called
          ? (text: string) => groups.find((g) => g.g.text === text)?.name ?? text
          : dated
            ? (v: number | Date) => middle(groups[places.indexOf(Number(v))]?.name ?? "", 16)
            : number
      }
      y={y}
      yName={middle(measureCalled(tally.measures[0]), 22)}
      yFormat={number}
    >
      {series.map((s, k) => (
        <g key={s.name}>
          <LinePath
            data={groups.map((_, i) => i)}
            x={at}
            y={(i) => y(s.values[i] ?? 0)}
            defined={(i) => s.values[i] !== undefined}
            stroke={ink}
            strokeWidth={1.5}
            strokeDasharray={dashes[k]}
            fill="none"
          />
          {groups.map(({ g, name }, i) => {
            const v = s.values[i];
            return v === undefined ? null : (
              // biome-ignore lint/a11y/noStaticElementInteractions: the table beneath opens the same rows by keyboard
              <circle
                key={g.text}
                cx={at(i)}
                cy={y(v)}
                r={groups.length > 60 ? 1.5 : 3}
                fill={ink}
                style={{ cursor: "pointer" }}
                onClick={() => open(g, s.group)}
              >
                <title>{saying(name, s.name, v)}</title>
              </circle>
            );
          })}
        </g>
      ))}
      <Legend names={series.map((s) => s.name)} lines />
    </Frame>
  );
}
