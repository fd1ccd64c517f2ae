import { Box, Text, useToken } from "@chakra-ui/react";
import { useNavigate } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { Empty } from "../shared/states";
import { originWord, percent, when } from "../shared/words";

const width = 760;
const height = 130;
const left = 40;
const bottom = 22;

/** The score of every audit of a dataset in the order in which they were made. */
export function ScoreLine({ audits: all }: { audits: Schemas["Audit"][] }) {
  const audits = all.flatMap((a) => (a.score == null ? [] : [{ ...a, score: a.score }]));
  const [ink, quiet, line, accent] = useToken("colors", ["ink", "quiet", "line", "accent"]);
  const navigate = useNavigate();
  if (audits.length === 0) {
    return <Empty>No audit by a rulebook has been made yet; the scores will stand here.</Empty>;
  }
  const shown = [...audits].reverse().slice(-40);
  const mark = shown[shown.length - 1].pass_mark;
  const low = Math.max(0, Math.floor(Math.min(mark, ...shown.map((a) => a.score)) - 1));
  const y = (score: number) => 8 + ((100 - score) / Math.max(100 - low, 1)) * (height - bottom - 8);
  const x = (i: number) => left + 24 + (i * (width - left - 48)) / Math.max(shown.length - 1, 1);
  const open = (a: Schemas["Audit"]) =>
    navigate({ to: "/tables/$id", params: { id: String(a.table_id) }, search: {} });
  return (
    <Box>
      <svg
        width={width}
        height={height}
        role="group"
        aria-label="Score of each audit over time"
        style={{ maxWidth: "100%" }}
      >
        <g style={{ fontSize: 11 }} fill={quiet} stroke="none">
          {(low < 100 ? [100, low] : [100]).map((v) => (
            <text key={v} x={left - 6} y={y(v) + 4} textAnchor="end">
              {v}
            </text>
          ))}
          <text x={width - 2} y={y(mark) - 4} textAnchor="end">
            pass mark {percent(mark)}
          </text>
          <text x={left} y={height - 4}>
            {when(shown[0].created_at)}
          </text>
          {shown.length > 1 && (
            <text x={width} y={height - 4} textAnchor="end">
              {when(shown[shown.length - 1].created_at)}
            </text>
          )}
        </g>
        <line x1={left} x2={width} y1={y(100)} y2={y(100)} stroke={line} />
        <line x1={left} x2={width} y1={y(low)} y2={y(low)} stroke={line} />
        <line x1={left} x2={width} y1={y(mark)} y2={y(mark)} stroke={quiet} strokeDasharray="2 4" />
        {/* What was cleaned or merged is another thing than what arrived: each has its own line. */}
        {[...new Set(shown.map((a) => a.origin))].map((origin) => (
          <polyline
            key={origin}
            points={shown.flatMap((a, i) => (a.origin === origin ? [`${x(i)},${y(a.score)}`] : [])).join(" ")}
            fill="none"
            stroke={ink}
            strokeWidth="1.2"
            strokeDasharray={origin === "delivery" ? undefined : "5 3"}
          />
        ))}
        {shown.map((a, i) => {
          const title = `${percent(a.score)}, ${a.passed ? "passed" : "fell short"}: ${originWord[a.origin]} ${a.table_id}, ${when(a.created_at)}`;
          return (
            <g
              key={a.id}
              role="button"
              tabIndex={0}
              aria-label={title}
              style={{ cursor: "pointer" }}
              onClick={() => open(a)}
              onKeyDown={(e) => e.key === "Enter" && open(a)}
            >
              <title>{title}</title>
              {a.origin === "delivery" ? (
                <circle cx={x(i)} cy={y(a.score)} r="5" fill={accent} />
              ) : (
                <rect
                  x={x(i) - 4.5}
                  y={y(a.score) - 4.5}
                  width="9"
                  height="9"
                  fill="var(--chakra-colors-paper)"
                  stroke={accent}
                  strokeWidth="2"
                />
              )}
              <text
                x={x(i)}
                y={y(a.score) + (a.score > 99 ? 18 : -9)}
                style={{ fontSize: 12 }}
                fill={ink}
                textAnchor="middle"
              >
                {percent(a.score)}
              </text>
            </g>
          );
        })}
      </svg>
      <Text fontSize="xs" color="quiet">
        Score of the table, 0 to 100, for each audit. Discs and the full line are deliveries, squares and
        broken lines cleaned or merged tables.
      </Text>
    </Box>
  );
}
