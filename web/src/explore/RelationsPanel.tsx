import { Box, chakra, HStack, Text, useToken } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useRef } from "react";
import type { Schemas } from "../client/client";
import { correlations, keys } from "../client/queries";
import { Choice, Empty, Grid, right, Section, Shown, Td, Th } from "../shared/parts";
import { SavePicture, SaveTable } from "../shared/save";
import { count, plural } from "../shared/words";

type Table = Schemas["Table"];
type Audit = Schemas["AuditShown"];

/** What the columns have to do with one another. */
export function RelationsPanel({ t, a }: { t: Table; a: Audit }) {
  return (
    <>
      <Keys t={t} />
      <Correlations t={t} numbers={a.result.columns.filter((c) => c.numbers).length} />
    </>
  );
}

function Keys({ t }: { t: Table }) {
  const found = useQuery(keys(t.id));
  return (
    <Section title="What could be a key">
      <Shown query={found} waiting="Looking through all rows …">
        {(all) =>
          all.length === 0 ? (
            <Empty>
              No set of up to three columns names the rows. Look for repeated rows, or for a part that is
              missing.
            </Empty>
          ) : (
            all.map((k) => (
              <Text key={k.columns.join()}>
                <chakra.span fontFamily="mono" fontSize="sm">
                  {k.columns.join(" + ")}
                </chakra.span>{" "}
                {k.surplus + k.lacking === 0
                  ? "names every row."
                  : `names nearly every row: ${count(k.surplus)} surplus, ${count(k.lacking)} without a part of it.`}
              </Text>
            ))
          )
        }
      </Shown>
    </Section>
  );
}

const cell = 42;

function Correlations({ t, numbers }: { t: Table; numbers: number }) {
  const found = useQuery(correlations(t.id));
  const { column } = useSearch({ from: "/tables/$id" });
  return (
    <Section title="Correlations of the columns of numbers">
      <Shown query={found} waiting="Looking through all rows …">
        {(c) =>
          c.columns.length < 2 ? (
            <Empty>Fewer than two columns hold numbers, so that nothing can be correlated.</Empty>
          ) : (
            <HStack align="start" gap="8" flexWrap="wrap">
              {c.columns.length < numbers && (
                <Text w="full" fontSize="sm" color="quiet">
                  The first {c.columns.length} of {numbers} columns of numbers are held against one another.
                </Text>
              )}
              <HeatMap t={t} c={c} chosen={column} />
              <Ranked t={t} c={c} chosen={c.columns.includes(column ?? "") ? column : undefined} />
            </HStack>
          )
        }
      </Shown>
    </Section>
  );
}

/** Ink for a positive correlation, hatching for a negative one; the darker, the stronger. */
function HeatMap({ t, c, chosen }: { t: Table; c: Schemas["Correlations"]; chosen?: string }) {
  const [ink, paper, quiet, accent] = useToken("colors", ["ink", "paper", "quiet", "accent"]);
  const picture = useRef<SVGSVGElement>(null);
  const navigate = useNavigate();
  const longest = Math.max(...c.columns.map((n) => n.length));
  const left = Math.min(longest * 7 + 10, 170);
  const size = c.columns.length * cell;
  return (
    <Box overflow="auto" maxW="100%">
      <HStack justify="space-between">
        <Text fontSize="sm" color="quiet">
          linear correlation; filled where positive, hatched where negative
        </Text>
        <SavePicture of={picture} name="correlations" title="Correlations between the columns of numbers" />
      </HStack>
      <svg
        ref={picture}
        width={left + size + 110}
        height={size + 70}
        role="img"
        aria-label="Heat map of the linear correlations; the list beside it holds the same numbers"
      >
        <defs>
          <pattern
            id="negative"
            width="5"
            height="5"
            patternUnits="userSpaceOnUse"
            patternTransform="rotate(45)"
          >
            <rect width="5" height="5" fill={paper} />
            <rect width="2.6" height="5" fill={ink} />
          </pattern>
        </defs>
        <g fontSize="12" fill={quiet}>
          {c.columns.map((name, i) => (
            <g key={name}>
              <text
                x={left - 6}
                y={70 + i * cell + cell / 2 + 4}
                textAnchor="end"
                fontWeight={name === chosen ? 700 : 400}
              >
                {name.length > 24 ? `${name.slice(0, 23)}…` : name}
              </text>
              <text transform={`translate(${left + i * cell + cell / 2 + 4} 64) rotate(-40)`}>
                {name.length > 14 ? `${name.slice(0, 13)}…` : name}
              </text>
            </g>
          ))}
        </g>
        {c.columns.map((row, i) =>
          c.columns.map((name, j) => {
            const r = c.pearson[i][j];
            const strength = Math.abs(r ?? 0);
            return (
              // biome-ignore lint/a11y/noStaticElementInteractions: the list beside it does the same with the keyboard
              <g
                key={`${row}\u0000${name}`}
                transform={`translate(${left + j * cell} ${70 + i * cell})`}
                onClick={() =>
                  navigate({
                    to: "/tables/$id",
                    params: { id: String(t.id) },
                    search: { view: "relations", column: row },
                  })
                }
                style={{ cursor: "pointer" }}
              >
                <rect
                  width={cell - 2}
                  height={cell - 2}
                  fill={r == null ? "none" : paper}
                  stroke={row === chosen || name === chosen ? accent : quiet}
                  strokeWidth={row === chosen || name === chosen ? 1.6 : 0.4}
                />
                {r != null && i !== j && (
                  <rect
                    width={cell - 2}
                    height={cell - 2}
                    fill={r < 0 ? "url(#negative)" : ink}
                    opacity={strength}
                  />
                )}
                {r != null && r < 0 && strength > 0.2 && i !== j && (
                  <rect x={2} y={cell / 2 - 9} width={cell - 6} height={16} fill={paper} />
                )}
                {r != null && i !== j && (
                  <text
                    x={cell / 2 - 1}
                    y={cell / 2 + 4}
                    textAnchor="middle"
                    style={{ fontSize: "12px" }}
                    fill={strength > 0.55 && r > 0 ? paper : ink}
                  >
                    {Math.abs(r) < 0.005 ? "0" : `${r < 0 ? "−" : ""}${Math.abs(r).toFixed(2)}`}
                  </text>
                )}
                <title>{`${row} and ${name}: ${r == null ? "not defined" : r.toFixed(3)}, ${plural(c.pairs[i][j], "pair", "pairs")} of numbers`}</title>
              </g>
            );
          }),
        )}
      </svg>
    </Box>
  );
}

const pairsShown = 200;

function Ranked({ t, c, chosen }: { t: Table; c: Schemas["Correlations"]; chosen?: string }) {
  const navigate = useNavigate();
  const pairs = c.columns.flatMap((first, i) =>
    c.columns
      .slice(0, i)
      .map((second, j) => ({ first, second, r: c.pearson[i][j], rho: c.spearman[i][j], n: c.pairs[i][j] })),
  );
  const shown = pairs
    .filter((p) => p.r != null && (!chosen || p.first === chosen || p.second === chosen))
    .sort((x, y) => Math.abs(y.r ?? 0) - Math.abs(x.r ?? 0));
  return (
    <Box minW={{ base: "0", md: "380px" }}>
      <HStack mb="1" justify="space-between" flexWrap="wrap">
        <Choice
          aria-label="Correlations of one column"
          value={chosen ?? ""}
          onChange={(e) =>
            navigate({
              to: "/tables/$id",
              params: { id: String(t.id) },
              search: { view: "relations", column: e.target.value || undefined },
            })
          }
        >
          <option value="">all pairs, the strongest first</option>
          {c.columns.map((n) => (
            <option key={n}>{n}</option>
          ))}
        </Choice>
        <SaveTable
          name="correlations"
          rows={() => [
            ["column", "with", "linear", "of ranks", "pairs"],
            ...shown.map((p) => [p.second, p.first, p.r, p.rho, p.n]),
          ]}
        />
      </HStack>
      <Grid label="Correlations, ranked" max="420px">
        <thead>
          <tr>
            <Th>column</Th>
            <Th>with</Th>
            <Th {...right}>linear</Th>
            <Th {...right}>of ranks</Th>
            <Th {...right}>pairs</Th>
          </tr>
        </thead>
        <tbody>
          {shown.slice(0, pairsShown).map((p) => (
            <tr key={`${p.first}\u0000${p.second}`}>
              <Td>{p.second}</Td>
              <Td>{p.first}</Td>
              <Td {...right}>{signed(p.r)}</Td>
              <Td {...right}>{signed(p.rho)}</Td>
              <Td {...right}>{count(p.n)}</Td>
            </tr>
          ))}
        </tbody>
      </Grid>
      {shown.length > pairsShown && (
        <Text fontSize="sm" color="quiet">
          The first {count(pairsShown)} of {count(shown.length)} pairs; the CSV has all of them.
        </Text>
      )}
      {c.rank_error != null && c.rank_error > 0 && (
        <Text fontSize="sm" color="quiet">
          Ranks are estimates in columns with very many different numbers.
        </Text>
      )}
    </Box>
  );
}

const signed = (r: number | null | undefined) =>
  r == null ? "" : `${r > 0 ? "+" : r < 0 ? "−" : ""}${Math.abs(r).toFixed(3)}`;
