import { Box, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../client/client";
import { tableInputs } from "../client/queries";
import { stepName } from "../putright/ledger";
import { Press } from "../shared/controls";
import { Grid, right, Td, Th, Unseen } from "../shared/grid";
import { Section, TableLink } from "../shared/parts";
import { Shown } from "../shared/states";
import { Total } from "../shared/Total";
import { Value } from "../shared/Value";
import { count, decimal, plural } from "../shared/words";
import { AccountingPicture } from "./AccountingPicture";
import type { Accounting, Grain, Taken, Why } from "./accounting";
import { StackSaid } from "./StackSaid";

/** Has a join, by its place from 1, match what is worked out of its columns. */
export type MatchSo = (join: number, pairs: { name: string; text: string }[]) => void;

/** One reason for which keys do not meet, with examples, and what would have them meet. */
export function NotMet({
  w,
  with: other,
  so,
}: {
  w: Why;
  with: string;
  so?: (pairs: Schemas["Pair"][]) => void;
}) {
  return (
    <Box my="2">
      <Text fontWeight="600">{w.says}</Text>
      {w.examples.map((e) => (
        <Text key={e.key} fontSize="sm">
          <Value text={e.key} /> is <Value text={e.meets} /> in {other}
        </Text>
      ))}
      <Text fontSize="sm" color="quiet">
        {w.left
          ? `To have them meet, match ${w.left.join(", ")} with ${w.right?.join(", ")}.`
          : w.step && `To have them meet, a step ${stepName(w.step)} in the fix plan of one side.`}
      </Text>
      {so && w.left && w.right && (
        <Press
          plain
          size="xs"
          h="6"
          onClick={() => so(w.left?.map((name, i) => ({ name, text: w.right?.[i] ?? name })) ?? [])}
        >
          Match so
        </Press>
      )}
    </Box>
  );
}

/** The columns that a join added. */
function TakenColumns({ taken, with: other }: { taken: Taken[]; with: string }) {
  const summed = taken.some((t) => t.sum_then);
  return (
    <Grid label={`Columns taken from ${other}`}>
      <thead>
        <tr>
          <Th>column taken</Th>
          <Th {...right}>rows with a value</Th>
          {summed && <Th {...right}>sum in {other}</Th>}
          {summed && <Th {...right}>sum after the join</Th>}
        </tr>
      </thead>
      <tbody>
        {taken.map((t) => (
          <tr key={t.column}>
            <Td>{t.column}</Td>
            <Td {...right}>
              {count(t.filled)} of {count(t.of)}
            </Td>
            {summed && <Td {...right}>{t.sum_there && decimal(t.sum_there)}</Td>}
            {summed && <Td {...right}>{t.sum_then && decimal(t.sum_then)}</Td>}
          </tr>
        ))}
      </tbody>
    </Grid>
  );
}

/**
 * Rows and sums of a merge from its inputs to its table, and what became of the rows of each join; without a table where it
 * is only looked at.
 */
export function MergeAccounting(props: { t?: Schemas["Table"]; a: Accounting; matchSo?: MatchSo }) {
  const { t, a, matchSo } = props;
  const measures = Object.keys(a.sums);
  const several = new Set(a.inputs.map((i) => i.dataset)).size < a.inputs.length;
  return (
    <Box maxW="1000px">
      <AccountingPicture t={t} a={a} />
      <Grid label="Accounting of the merge">
        <thead>
          <tr>
            <Th>step</Th>
            <Th {...right}>rows</Th>
            <Unseen>change of rows</Unseen>
            {measures.map((m) => (
              <Th key={m} {...right}>
                sum of {m}
              </Th>
            ))}
            <Unseen>more</Unseen>
          </tr>
        </thead>
        <tbody>
          {a.inputs.map((i) => (
            <tr key={`${i.dataset} ${i.table}`}>
              <Td>
                {i.table ? (
                  <TableLink id={i.table}>
                    {i.dataset}, table {i.table}
                  </TableLink>
                ) : (
                  i.dataset
                )}
                {several && i.name && ` ${i.name}`}
                {i.grain && ` (${grainSays(i.grain)})`}
              </Td>
              <Td {...right}>{count(i.rows)}</Td>
              <Td />
              {measures.map((m) => (
                <Td key={m} {...right}>
                  {decimal(i.sums[m])}
                </Td>
              ))}
              <Td />
            </tr>
          ))}
          {(a.stack.set_aside ?? 0) > 0 && (
            <tr>
              <Td>another row stands for them</Td>
              <Td {...right}>−{count(a.stack.set_aside)}</Td>
              <Td />
              {measures.map((m) => (
                <Td key={m} {...right}>
                  {decimal(a.stack.sums_set_aside?.[m])}
                </Td>
              ))}
              <Td />
            </tr>
          )}
          {a.stack.sums_filled && (
            <tr>
              <Td>cells filled from these</Td>
              <Td />
              <Td />
              {measures.map((m) => (
                <Td key={m} {...right}>
                  {decimal(a.stack.sums_filled?.[m])}
                </Td>
              ))}
              <Td />
            </tr>
          )}
          <Total name="stacked" rows={a.stack.rows} sums={a.stack.sums} measures={measures} />
          {a.joins.map((j) => (
            <Total
              key={j.with}
              name={`joined with ${j.with}`}
              rows={j.rows_out}
              sums={j.sums_out}
              measures={measures}
            />
          ))}
          <Total name="merged table" rows={a.rows} sums={a.sums} measures={measures} />
        </tbody>
      </Grid>
      {a.unmet ? (
        <Text mt="2">
          {plural(
            a.unmet,
            "row found no partner in a join, or has another row standing for it",
            "rows found no partner in a join, or have another row standing for them",
          )}
          .{" "}
          {t && (
            <a href={`/api/v1/tables/${t.id}/bytes?what=unmet`} download>
              Download them as a table that can be sent back
            </a>
          )}
        </Text>
      ) : null}
      {a.joins.map((j, at) => (
        <Section
          key={j.with}
          title={`Join with ${j.with} on ${[...j.on, ...(j.beside ? [j.beside] : [])].join(" and ")}`}
        >
          {j.grain && (
            <Text fontSize="sm">
              {j.with}: {grainSays(j.grain)}
            </Text>
          )}
          <Grid label={`What became of the rows joined with ${j.with}`}>
            <tbody>
              {(
                [
                  ["rows in", count(j.rows_in)],
                  ["matched", count(j.matched)],
                  ["not matched", count(j.unmatched)],
                  ...(j.blank
                    ? [["of these with nothing in a part of the key", count(j.blank)] as const]
                    : []),
                  ...(j.outside
                    ? [
                        [
                          "of these whose key is there, but no range or time for it",
                          count(j.outside),
                        ] as const,
                      ]
                    : []),
                  ["of these set aside", count(j.set_aside)],
                  ["added, since a key was there more than once", count(j.multiplied)],
                  ...(j.added
                    ? [[`added of ${j.with}, which no row asked for`, count(j.added)] as const]
                    : []),
                  ["rows out", count(j.rows_out)],
                  ...(j.unplaced
                    ? [
                        [
                          `rows of ${j.with} whose range or time is none of its type`,
                          count(j.unplaced),
                        ] as const,
                      ]
                    : []),
                  ...(j.chosen
                    ? [
                        [
                          "keys of which one of several rows was taken",
                          j.tied
                            ? `${count(j.chosen)}, of ${count(j.tied)} another was as good`
                            : count(j.chosen),
                        ] as const,
                      ]
                    : []),
                  [
                    `rows of ${j.with} that no row asked for`,
                    `${count(j.joined_unused)} of ${count(j.joined_rows)}`,
                  ],
                ] as const
              ).map(([name, n]) => (
                <tr key={name}>
                  <Td>{name}</Td>
                  <Td {...right}>{n}</Td>
                </tr>
              ))}
            </tbody>
          </Grid>
          {j.multiplied > 0 && Object.keys(j.sums_multiplied).length > 0 && (
            <Text fontSize="sm" fontWeight="600">
              Rows that were added since a key was there more than once are counted again in the sums:{" "}
              {Object.entries(j.sums_multiplied)
                .map(([m, sum]) => `${m} ${decimal(sum)}`)
                .join(", ")}
              .
            </Text>
          )}
          {j.taken && j.taken.length > 0 && <TakenColumns taken={j.taken} with={j.with} />}
          {j.why?.map((w) => (
            <NotMet
              key={w.levelling}
              w={w}
              with={j.with}
              so={matchSo && ((pairs) => matchSo(at + 1, pairs))}
            />
          ))}
          {j.misses.map((x) => (
            <Text key={x.key} fontSize="sm">
              {plural(x.rows, "row has", "rows have")} the key {x.key || "(missing)"}
              {x.close && `; ${j.with} has ${x.close}`}
            </Text>
          ))}
          {(j.misses_more ?? 0) > 0 && (
            <Text fontSize="sm" color="quiet">
              {j.misses_cut && "At least "}
              {plural(j.misses_more ?? 0, "key", "keys")} more that {j.with} does not have.
            </Text>
          )}
        </Section>
      ))}
      <StackSaid s={a.stack} />
      {t && <MadeOf id={t.id} />}
    </Box>
  );
}

const grainSays = (g: Grain) =>
  `made of ${plural(g.rows_before, "row", "rows")} by ${g.says}${g.note ? `. ${g.note}` : ""}`;

/** The tables that a merged one was made of. */
function MadeOf({ id }: { id: number }) {
  const inputs = useQuery(tableInputs(id));
  return (
    <Section title="Made of">
      <Shown query={inputs}>
        {(tables) =>
          tables.map((i) => (
            <Text key={i.id}>
              <TableLink id={i.id}>
                table {i.id}, {i.dataset}
              </TableLink>
            </Text>
          ))
        }
      </Shown>
    </Section>
  );
}
