import { Box, HStack, Text, useToken } from "@chakra-ui/react";
import { Link, useNavigate } from "@tanstack/react-router";
import { useRef, useState } from "react";
import type { Schemas } from "../../client/client";
import { Press } from "../../shared/controls";
import { SavePicture } from "../../shared/save";
import { count, middle, missing, plural, shareOf } from "../../shared/words";

const line = 20;
const left = 190;
const right = 130;
const across = 800;
const few = 60;

/** The rows that a cell of a strip stands for, from 1. */
const span = (rows: number, cells: number, i: number) =>
  [Math.floor((rows * i) / cells) + 1, Math.floor((rows * (i + 1)) / cells)] as const;

/** One line for each column that lacks something, from the first row of the file to the last; the fuller, the more is missing. */
export function MissingAlong(props: { t: Schemas["Table"]; columns: Schemas["Column"][]; rows: number }) {
  const { t, rows } = props;
  const [all, setAll] = useState(false);
  const columns = all ? props.columns : props.columns.slice(0, few);
  const [colour, quiet, rule] = useToken("colors", ["completeness", "quiet", "line"]);
  const picture = useRef<SVGSVGElement>(null);
  const navigate = useNavigate();
  const height = 30 + columns.length * line;
  const says = `Where ${t.file_name} misses values, by column, from the first row to the last`;
  return (
    <Box>
      <HStack justify="space-between" maxW={`${left + across + right}px`} flexWrap="wrap">
        <Text fontSize="sm" color="quiet">
          Each mark stands for a part of the rows and is as tall as the share that is missing there. Press one
          to see those rows.
        </Text>
        <SavePicture of={picture} name={`${t.dataset}-missing`} title={says} />
      </HStack>
      <Box
        overflow="auto"
        maxH="420px"
        className="scrolls"
        tabIndex={0}
        role="group"
        aria-label={`Picture: ${says}`}
      >
        <svg ref={picture} width={left + across + right} height={height} role="img" aria-label={says}>
          <g style={{ fontSize: 11 }} fill={quiet}>
            <text x={left} y="14">
              row 1
            </text>
            <text x={left + across} y="14" textAnchor="end">
              row {count(rows)}
            </text>
          </g>
          {columns.map((c, at) => {
            const y = 30 + at * line;
            const cells = c.gaps ?? [];
            const wide = across / Math.max(cells.length, 1);
            return (
              <g key={c.name}>
                <text x={left - 8} y={y + 13} textAnchor="end" style={{ fontSize: 12 }} fill={quiet}>
                  <title>{c.name}</title>
                  {middle(c.name, 26)}
                </text>
                <line x1={left} x2={left + across} y1={y + line - 3} y2={y + line - 3} stroke={rule} />
                {cells.map((n, i) => {
                  const [first, last] = span(rows, cells.length, i);
                  const tall = Math.max((n / Math.max(last - first + 1, 1)) * (line - 5), 2);
                  return n === 0 ? null : (
                    // biome-ignore lint/a11y/noStaticElementInteractions: the list beneath leads to the same rows by keyboard
                    <rect
                      // biome-ignore lint/suspicious/noArrayIndexKey: a part of the rows is known by its place
                      key={i}
                      x={left + i * wide + 0.5}
                      y={y + line - 3 - tall}
                      width={Math.max(wide - 1, 1)}
                      height={tall}
                      fill={colour}
                      fillOpacity={0.25}
                      stroke={colour}
                      strokeWidth={0.9}
                      style={{ cursor: "pointer" }}
                      onClick={() =>
                        navigate({
                          to: "/tables/$id",
                          params: { id: String(t.id) },
                          search: { view: "rows", only: [missing(c.name)], after: first - 1 },
                        })
                      }
                    >
                      <title>{`${c.name}: ${count(n)} of rows ${count(first)} to ${count(last)} lack it`}</title>
                    </rect>
                  );
                })}
                <text x={left + across + 8} y={y + 13} style={{ fontSize: 11 }} fill={quiet}>
                  {count(c.missing)}, {shareOf(c.missing, rows)}
                </text>
              </g>
            );
          })}
        </svg>
      </Box>
      {props.columns.length > few && (
        <HStack my="1" gap="3">
          <Text fontSize="sm" color="quiet">
            {all
              ? `All ${count(props.columns.length)} are shown.`
              : `The first ${count(few)} of ${count(props.columns.length)}, those that lack most.`}
          </Text>
          {!all && (
            <Press plain size="xs" h="6" onClick={() => setAll(true)}>
              Show all
            </Press>
          )}
        </HStack>
      )}
      <List {...props} />
    </Box>
  );
}

/** The same in words, by keyboard: how many rows lack a column, and the part of the file that lacks most of it. */
function List({ t, columns, rows }: { t: Schemas["Table"]; columns: Schemas["Column"][]; rows: number }) {
  return (
    <details>
      <summary>The same as a list</summary>
      <Box maxH="240px" overflow="auto" tabIndex={0} role="group" aria-label="What is missing, by column">
        {columns.map((c) => {
          const cells = c.gaps ?? [];
          const worst = cells.indexOf(Math.max(...cells));
          const [first, last] = span(rows, cells.length, worst);
          return (
            <Text key={c.name} fontSize="sm">
              <Link
                to="/tables/$id"
                params={{ id: String(t.id) }}
                search={{ view: "rows", only: [missing(c.name)] }}
              >
                {plural(c.missing, "row lacks", "rows lack")} {c.name}
              </Link>
              {worst >= 0 && `, most of all rows ${count(first)} to ${count(last)}: ${count(cells[worst])}`}.
            </Text>
          );
        })}
      </Box>
    </details>
  );
}
