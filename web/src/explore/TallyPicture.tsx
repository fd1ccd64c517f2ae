import { Box, HStack, Text, useToken } from "@chakra-ui/react";
import { useRef } from "react";
import type { Schemas } from "../client/client";
import { SavePicture } from "../shared/save";
import { count, middle } from "../shared/words";
import { calledOf, groupCalled, measureCalled } from "./expressions";
import { ticksFor } from "./ticks";

type Tally = Schemas["Tally"];

const size = { width: 900, height: 190, left: 70, right: 12, top: 28, bottom: 30 };
/** How many lines can be told apart in one picture. */
const linesMost = 5;

/**
 * The first measure of each group: bars for what has no order, a line for periods and steps. Of two groupings the
 * second's groups are lines of their own, or parts of a bar.
 */
export function TallyPicture({ x, title }: { x: Tally; title: string }) {
  const [ink, quiet, line] = useToken("colors", ["ink", "quiet", "line"]);
  const picture = useRef<SVGSVGElement>(null);
  const by = x.by[0];
  const groups = (by?.groups ?? []).map((g, i) => ({ g, i })).filter(({ g }) => !g.missing);
  const second = x.by.length === 2 ? x.by[1] : undefined;
  if (!by || groups.length < 2) {
    return null;
  }
  const ordered = by.kind !== "text" && by.kind !== "boolean";
  const series = second
    ? second.groups.slice(0, linesMost).map((g, k) => ({
        name: groupCalled(second, g),
        values: groups.map(({ i }) => number(x.cells[i][k].values[0])),
      }))
    : [{ name: "", values: groups.map(({ i }) => number(x.downs[i].values[0])) }];
  const all = series.flatMap((s) => s.values).filter((v): v is number => v !== undefined);
  const ticks = ticksFor(Math.min(0, ...all), Math.max(0, ...all));
  const [low, high] = [ticks[0], ticks[ticks.length - 1]];
  const floor = size.height - size.bottom;
  const y = (v: number) => floor - ((v - low) / (high - low || 1)) * (floor - size.top);
  const step = (size.width - size.left - size.right) / groups.length;
  const at = (i: number) => size.left + step * (i + 0.5);
  const every = Math.ceil(groups.length / 12);
  return (
    <Box
      mt="1"
      overflowX="auto"
      className="scrolls"
      tabIndex={0}
      role="group"
      aria-label="The tally as a picture"
    >
      <svg ref={picture} width={size.width} height={size.height} role="img" aria-label={title}>
        <g fontSize="11" fill={quiet}>
          <text x={size.left} y="16" stroke="none">
            {middle(measureCalled(x.measures[0]), 22)}
          </text>
          {ticks.map((v) => (
            <g key={v}>
              <line x1={size.left} x2={size.width - size.right} y1={y(v)} y2={y(v)} stroke={line} />
              <text x={size.left - 6} y={y(v) + 4} textAnchor="end" stroke="none">
                {v.toLocaleString("en-GB")}
              </text>
            </g>
          ))}
          {groups.map(({ g, i }, k) =>
            k % every === 0 ? (
              <text key={g.text} x={at(k)} y={floor + 16} textAnchor="middle" stroke="none">
                {middle(groupCalled(by, by.groups[i]), Math.max(4, Math.floor((step * every) / 7)))}
              </text>
            ) : null,
          )}
        </g>
        {ordered
          ? series.map((s, k) => (
              <g key={s.name} stroke={ink} fill="none" strokeWidth="1.5" strokeDasharray={dashes[k]}>
                {runs(s.values).map((run) => (
                  <polyline
                    key={run[0]}
                    points={run.map((i) => `${at(i)},${y(s.values[i] ?? 0)}`).join(" ")}
                  />
                ))}
                {s.values.map((v, i) =>
                  v === undefined ? null : (
                    <circle key={groups[i].g.text} cx={at(i)} cy={y(v)} r="2" fill={ink} stroke="none">
                      <title>{`${groupCalled(by, groups[i].g)}${s.name && `, ${s.name}`}: ${v.toLocaleString("en-GB")}`}</title>
                    </circle>
                  ),
                )}
              </g>
            ))
          : groups.map(({ g }, i) => (
              <g key={g.text}>
                {series.map((s, k) => {
                  const v = s.values[i];
                  const wide = Math.max((step * 0.8) / series.length, 1);
                  return v === undefined ? null : (
                    <rect
                      key={s.name}
                      x={at(i) - step * 0.4 + k * wide}
                      width={Math.max(wide - 1, 0.8)}
                      y={Math.min(y(v), y(0))}
                      height={Math.abs(y(v) - y(0))}
                      fill={ink}
                      opacity={0.85 - 0.15 * k}
                    >
                      <title>{`${groupCalled(by, g)}${s.name && `, ${s.name}`}: ${v.toLocaleString("en-GB")}`}</title>
                    </rect>
                  );
                })}
              </g>
            ))}
        {second && (
          <g fontSize="11" fill={ink}>
            {series.map((s, k) => (
              <g key={s.name} transform={`translate(${size.left + 150 + k * 145}, 12)`}>
                {ordered ? (
                  <line
                    x1="0"
                    x2="22"
                    y1="0"
                    y2="0"
                    stroke={ink}
                    strokeWidth="1.5"
                    strokeDasharray={dashes[k]}
                  />
                ) : (
                  <rect x="6" y="-5" width="10" height="10" opacity={0.85 - 0.15 * k} />
                )}
                <text x="27" y="4" stroke="none">
                  {middle(s.name, 20)}
                </text>
              </g>
            ))}
          </g>
        )}
      </svg>
      <HStack gap="3">
        <SavePicture of={picture} name="tally" title={title} />
        {second && second.groups.length > linesMost && (
          <Text fontSize="sm" color="quiet">
            The first {linesMost} of {count(second.groups.length + second.rest)} groups of{" "}
            {calledOf(second.expression)} are drawn.
          </Text>
        )}
      </HStack>
    </Box>
  );
}

const dashes = [undefined, "6 3", "2 3", "8 3 2 3", "1 5"];

const number = (text: string) => (text === "" ? undefined : Number(text));

/** The places of values that stand beside one another without a gap. */
function runs(values: (number | undefined)[]): number[][] {
  const out: number[][] = [];
  for (const [i, v] of values.entries()) {
    if (v === undefined) {
      continue;
    }
    const last = out.at(-1);
    if (last && last[last.length - 1] === i - 1) {
      last.push(i);
    } else {
      out.push([i]);
    }
  }
  return out;
}
