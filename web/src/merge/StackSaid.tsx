import { Box, Text } from "@chakra-ui/react";
import { Grid, right, Td, Th } from "../shared/grid";
import { Section, TableLink } from "../shared/parts";
import { Value } from "../shared/Value";
import { count, plural } from "../shared/words";
import type { Stack } from "./accounting";

const became: Record<string, string> = {
  keep: "all are kept",
  once: "that of the first table is kept",
  newest_wins: "the newest table's row stands",
  by_cell: "the newest table's row stands, filled from the others",
  refuse: "refused",
};

/** What is told of a stack beyond its rows. */
export function StackSaid({ s }: { s: Stack }) {
  const lacking = Object.entries(s.lacking);
  const renamed = Object.entries(s.renamed ?? {});
  return (
    <>
      {s.shared && (
        <Section title="What the stacked tables have in common">
          <Text>
            {s.shared.key.length > 0 ? `By the key ${s.shared.key.join(", ")}` : "By all their cells"},{" "}
            {plural(s.shared.equal.keys, "is", "are")} equal in several tables
            {s.shared.equal.keys > 0 && ` (${became[s.shared.equal.became]})`}, and{" "}
            {plural(s.shared.contradicting.keys, "contradicts", "contradict")} one another
            {s.shared.contradicting.keys > 0 && ` (${became[s.shared.contradicting.became]})`}.
          </Text>
          {Object.entries(s.filled ?? {}).map(([column, n]) => (
            <Text key={column} fontSize="sm">
              {plural(n, "cell", "cells")} of {column} {n === 1 ? "is" : "are"} filled from rows for which
              another one stands.
            </Text>
          ))}
          {s.shared.examples.length > 0 && <Examples shared={s.shared} />}
        </Section>
      )}
      {s.periods && <Covered p={s.periods} />}
      {renamed.length > 0 && (
        <Section title="Columns that the stack calls otherwise">
          {renamed.flatMap(([dataset, columns]) =>
            Object.entries(columns).map(([was, now]) => (
              <Text key={`${dataset} ${was}`} fontSize="sm">
                {was} of {dataset} is {now}.
              </Text>
            )),
          )}
        </Section>
      )}
      {lacking.length > 0 && (
        <Section title="Columns that not every table has">
          {lacking.map(([column, where]) => (
            <Text key={column} fontSize="sm">
              {column} is missing in {where.join(" and ")}; its cells are empty there.
            </Text>
          ))}
        </Section>
      )}
    </>
  );
}

/** Keys that contradict one another, with their rows one below the other. */
function Examples({ shared }: { shared: NonNullable<Stack["shared"]> }) {
  return (
    <Box mt="1">
      <Grid label="Keys that contradict one another" max="320px">
        <thead>
          <tr>
            <Th>key</Th>
            <Th>table</Th>
            <Th {...right}>row</Th>
            <Th>what differs</Th>
          </tr>
        </thead>
        <tbody>
          {shared.examples.flatMap((e) =>
            e.rows.map((r, i) => (
              <tr key={`${e.key} ${r.dataset} ${r.table} ${r.row}`}>
                <Td>{i === 0 && e.key}</Td>
                <Td>
                  {r.table ? (
                    <TableLink id={r.table}>
                      {r.dataset}, {r.table}
                    </TableLink>
                  ) : (
                    r.dataset
                  )}
                </Td>
                <Td {...right}>{count(r.row)}</Td>
                <Td>
                  {e.differ.map((column, k) => (
                    <Box as="span" key={column} me="3">
                      {column} <Value text={r.cells[k]} />
                    </Box>
                  ))}
                </Td>
              </tr>
            )),
          )}
        </tbody>
      </Grid>
      {shared.contradicting.keys > shared.examples.length && (
        <Text fontSize="sm" color="quiet">
          The first {count(shared.examples.length)} of {count(shared.contradicting.keys)} keys.
        </Text>
      )}
    </Box>
  );
}

const day = (text: string) => Date.parse(text) / 86_400_000;

/** Which days each table covers, on one line of time. */
function Covered({ p }: { p: NonNullable<Stack["periods"]> }) {
  const dated = p.covered.filter((c) => c.first !== "");
  const from = Math.min(...dated.map((c) => day(c.first)));
  const length = Math.max(1, Math.max(...dated.map((c) => day(c.last))) - from + 1);
  return (
    <Section title={`Days that the tables cover, by ${p.column}`}>
      {dated.length > 0 && (
        <Box maxH="260px" overflow="auto" tabIndex={0} role="group" aria-label="Days that each table covers">
          {p.covered.map((c) => (
            <Box
              key={`${c.dataset} ${c.table} ${c.name}`}
              display="grid"
              gridTemplateColumns="minmax(140px, 240px) minmax(0, 1fr)"
              gap="3"
              fontSize="sm"
            >
              <Text truncate title={c.name}>
                {c.dataset}
                {c.table != null && `, table ${c.table}`}
              </Text>
              <Box position="relative" h="18px" title={`${c.first} to ${c.last}, ${count(c.days)} days`}>
                {c.first !== "" && (
                  <Box
                    position="absolute"
                    top="4px"
                    h="10px"
                    minW="3px"
                    bg="quiet"
                    style={{
                      left: `${(100 * (day(c.first) - from)) / length}%`,
                      width: `${(100 * (day(c.last) - day(c.first) + 1)) / length}%`,
                    }}
                  />
                )}
                <Text srOnly>
                  {c.first === "" ? "no day" : `${c.first} to ${c.last}, ${count(c.days)} days`}
                </Text>
              </Box>
            </Box>
          ))}
        </Box>
      )}
      {dated.length > 0 && (
        <Text fontSize="sm" color="quiet">
          {dated.map((c) => c.first).sort()[0]} to{" "}
          {dated
            .map((c) => c.last)
            .sort()
            .at(-1)}
        </Text>
      )}
      {p.overlaps.map((o) => (
        <Text key={`${o.table} ${o.first} ${o.name}`} fontSize="sm">
          {plural(o.days, "day", "days")} of {o.dataset}
          {o.table != null && `, table ${o.table},`} from {o.first} to {o.last} {o.days === 1 ? "is" : "are"}{" "}
          in a table that begins before it too.
        </Text>
      ))}
      {p.gaps.map((g) => (
        <Text key={g.after} fontSize="sm" fontWeight="600">
          {plural(g.days, "day is", "days are")} in no table, between {g.after} and {g.before}.
        </Text>
      ))}
    </Section>
  );
}
