import { Box, HStack, Text, useToken } from "@chakra-ui/react";
import { useRef } from "react";
import type { Schemas } from "../client/client";
import { SavePicture } from "./save";
import { count, edge, plural, short } from "./words";

type Column = Schemas["Column"];

/** A bar; its tick is what stands below it, where that is not its label. */
export type Bar = { label: string; rows: number; tick?: string };

/** What a column's picture shows: how its numbers or dates lie, or how often its most frequent values occur. */
export function barsOf(c: Column): Bar[] {
  if (c.numbers) {
    const h = c.numbers.histogram;
    return [
      ...(h.below ? [{ label: `below ${edge(h.from, h.width)}`, tick: "below", rows: h.below }] : []),
      ...h.rows.map((rows, i) => ({
        label: `${edge(h.from + i * h.width, h.width)} to ${edge(h.from + (i + 1) * h.width, h.width)}`,
        tick: edge(h.from + i * h.width, h.width),
        rows,
      })),
      ...(h.above
        ? [{ label: `from ${edge(h.from + h.rows.length * h.width, h.width)}`, tick: "above", rows: h.above }]
        : []),
    ];
  }
  if (c.dates) {
    return c.dates.periods.map((p) => ({ label: p.start, rows: p.rows }));
  }
  return c.frequent.map((f) => ({ label: f.text, rows: f.rows }));
}

const small = { width: 120, height: 22 };

/** A picture as small as a line of text; the same for every column, so that the eye can compare. */
export function SmallPicture({ c }: { c: Column }) {
  const [ink] = useToken("colors", ["ink"]);
  const bars = barsOf(c);
  const most = Math.max(1, ...bars.map((b) => b.rows));
  if (bars.length === 0) {
    return null;
  }
  const step = Math.min(small.width / bars.length, 12);
  const kind = c.numbers ? "histogram" : c.dates ? "rows by period" : "most frequent values";
  return (
    <svg width={small.width} height={small.height} role="img" aria-label={`${c.name}: ${kind}`}>
      <title>{`${c.name}: ${kind}`}</title>
      {/* One path for all bars: an overview has hundreds of them. */}
      <path
        d={bars
          .map((b, i) => {
            const tall = b.rows === 0 ? 0 : Math.max((b.rows / most) * (small.height - 2), 1);
            return `M${i * step},${small.height}v${-tall}h${Math.max(step - 1, 0.6)}v${tall}z`;
          })
          .join("")}
        fill={ink}
        opacity={0.75}
      />
    </svg>
  );
}

const large = { width: 760, height: 250, left: 64, bottom: 34, top: 10 };

/** The distribution of a column with its axes, and a box over it where it holds numbers. */
export function LargePicture({ c }: { c: Column }) {
  const [ink, quiet, line, accent] = useToken("colors", ["ink", "quiet", "line", "accent"]);
  const picture = useRef<SVGSVGElement>(null);
  const bars = barsOf(c);
  if (bars.length === 0) {
    return null;
  }
  const most = Math.max(1, ...bars.map((b) => b.rows));
  const box = c.numbers ? 34 : 0;
  const inner = large.width - large.left - 8;
  const step = inner / bars.length;
  const floor = large.height - large.bottom;
  const y = (rows: number) => floor - (rows / most) * (floor - large.top - box);
  const every = Math.ceil(bars.length / (c.numbers || c.dates ? 9 : 12));
  const shown = bars.reduce((n, b) => n + b.rows, 0);
  const says = c.numbers
    ? `${plural(shown, "number", "numbers")} of ${c.name} in bins of ${short(c.numbers.histogram.width)}${
        c.numbers.histogram.unsure
          ? `; estimated: ${count(c.numbers.histogram.unsure)} may belong to the bar beside theirs`
          : ""
      }`
    : c.dates
      ? `${plural(shown, "date", "dates")} of ${c.name} by ${c.dates.unit}`
      : `The most frequent values of ${c.name}: ${count(shown)} of ${plural(c.filled, "filled cell", "filled cells")}`;
  return (
    <Box mt="2">
      <HStack justify="space-between" maxW={`${large.width}px`} flexWrap="wrap">
        <Text fontWeight="600" overflowWrap="anywhere">
          {says}
        </Text>
        <SavePicture of={picture} name={c.name} title={says} />
      </HStack>
      <Box overflowX="auto" className="scrolls" tabIndex={0} role="group" aria-label={`Picture: ${says}`}>
        <svg ref={picture} width={large.width} height={large.height} role="img" aria-label={says}>
          <g style={{ fontSize: 11 }} fill={quiet} stroke="none">
            {[0, most / 2, most].map((v) => (
              <g key={v}>
                <text x={large.left - 6} y={y(v) + 4} textAnchor="end">
                  {count(Math.round(v))}
                </text>
                <line x1={large.left} x2={large.width} y1={y(v)} y2={y(v)} stroke={line} />
              </g>
            ))}
            {bars.map(
              (b, i) =>
                i % every === 0 && (
                  <text key={b.label} x={large.left + i * step + 1} y={floor + 14}>
                    {clip(b.tick ?? b.label, Math.floor((step * every) / 6.2))}
                  </text>
                ),
            )}
            <text x={large.left} y={large.height - 4}>
              {c.numbers ? `${c.name}; the bars count rows` : "rows"}
            </text>
          </g>
          {bars.map((b, i) => (
            <rect
              key={b.label}
              x={large.left + i * step}
              y={y(b.rows) - (b.rows > 0 && y(b.rows) > floor - 1 ? 1 : 0)}
              width={Math.max(step - 1, 1)}
              height={Math.max(floor - y(b.rows), b.rows > 0 ? 1 : 0)}
              fill={ink}
              opacity={0.75}
            >
              <title>{`${b.label}: ${count(b.rows)}`}</title>
            </rect>
          ))}
          {c.numbers && <BoxPlot c={c} inner={inner} colour={accent} />}
        </svg>
      </Box>
      <details>
        <summary>The same as a table</summary>
        <Box maxH="240px" overflow="auto" maxW="360px">
          <table>
            <tbody>
              {bars.map((b) => (
                <tr key={b.label}>
                  <td>{b.label}</td>
                  <td style={{ textAlign: "right", paddingLeft: 24 }}>{count(b.rows)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Box>
      </details>
    </Box>
  );
}

const clip = (text: string, length: number) =>
  text.length > length ? `${text.slice(0, Math.max(length - 1, 1))}…` : text;

/** The box from quartile to quartile, its median, whiskers to the last numbers inside the fences, and the extremes beyond. */
function BoxPlot({ c, inner, colour }: { c: Column; inner: number; colour: string }) {
  const n = c.numbers;
  if (!n) {
    return null;
  }
  const h = n.histogram;
  const bars = h.rows.length + (h.below ? 1 : 0) + (h.above ? 1 : 0);
  const from = h.from - (h.below ? h.width : 0);
  const x = (v: number) => large.left + Math.min(Math.max((v - from) / (bars * h.width), 0), 1) * inner;
  const at = (share: number) => n.quantiles.find((q) => q.share === share)?.number ?? 0;
  const { below, above, lowest, highest, low_fence, high_fence } = n.outliers;
  const known = lowest !== 0 || highest !== 0; // audits of earlier versions do not say
  const low = known ? lowest : Math.max(at(0), low_fence);
  const high = known ? highest : Math.min(at(1), high_fence);
  const y = large.top + 10;
  return (
    <g stroke={colour} strokeWidth={1.5} fill="none">
      <line x1={x(low)} x2={x(at(0.25))} y1={y} y2={y} />
      <line x1={x(at(0.75))} x2={x(high)} y1={y} y2={y} />
      <line x1={x(low)} x2={x(low)} y1={y - 5} y2={y + 5} />
      <line x1={x(high)} x2={x(high)} y1={y - 5} y2={y + 5} />
      <rect x={x(at(0.25))} y={y - 8} width={Math.max(x(at(0.75)) - x(at(0.25)), 1)} height={16} />
      <line x1={x(at(0.5))} x2={x(at(0.5))} y1={y - 8} y2={y + 8} strokeWidth={3} />
      {below > 0 && <circle cx={x(at(0))} cy={y} r={3} />}
      {above > 0 && <circle cx={x(at(1))} cy={y} r={3} />}
      <title>
        {`Box from ${short(at(0.25))} to ${short(at(0.75))}, median ${short(at(0.5))}, whiskers to ${short(low)} and ${short(high)}, the last numbers inside the fences at ${short(n.outliers.low_fence)} and ${short(n.outliers.high_fence)}; beyond them ${count(below)} below and ${count(above)} above, whose extremes are marked`}
      </title>
    </g>
  );
}

/** Where in the file a column misses: a strip from the first row to the last. */
export function Gaps({ c, rows }: { c: Column; rows: number }) {
  const [colour, calm] = useToken("colors", ["completeness", "calm"]);
  if (!c.gaps || c.missing === 0) {
    return null;
  }
  const cells = c.gaps.length;
  const each = rows / cells;
  return (
    <svg
      width={cells * 3}
      height={16}
      role="img"
      aria-label={`Where ${c.name} is missing, from the first row to the last`}
    >
      <title>{`Where ${c.name} is missing: the taller, the more of those rows lack it`}</title>
      <path d={`M0,15.5h${cells * 3}`} stroke={calm} strokeDasharray="1 2" strokeDashoffset="-1" />
      <path
        d={c.gaps
          .map((n, i) => {
            const tall = Math.max((n / each) * 15, 2);
            return n > 0 ? `M${i * 3},15v${-tall}h2.2v${tall}z` : "";
          })
          .join("")}
        fill="none"
        stroke={colour}
        strokeWidth={0.9}
      />
    </svg>
  );
}
