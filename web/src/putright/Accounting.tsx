import { Box, chakra, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "../client/client";
import { tableInputs } from "../client/queries";
import { Grid, right, Td, Th, Unseen } from "../shared/grid";
import { Section, TableLink } from "../shared/parts";
import { Shown } from "../shared/states";
import { Value } from "../shared/Value";
import { count, decimal, plural, short } from "../shared/words";
import { type Asked, Changes } from "./Changes";
import { type Estimated, type Ledger, type Sums, stepName } from "./ledger";
import { TraceCell } from "./TraceCell";

/** What would have to be levelled for keys to meet. */
type Why = {
  levelling: string;
  says: string;
  left?: string[];
  right?: string[];
  step?: string;
  examples: { key: string; meets: string }[];
};

type Accounting = {
  inputs: { dataset: string; rows: number; sums: Sums }[];
  stack: { rows: number; sums: Sums; lacking: Record<string, string[]> };
  joins: {
    with: string;
    on: string[];
    rows_in: number;
    matched: number;
    unmatched: number;
    set_aside: number;
    multiplied: number;
    rows_out: number;
    joined_rows: number;
    joined_unused: number;
    sums_out: Sums;
    sums_set_aside: Sums;
    sums_multiplied: Sums;
    blank?: number;
    added?: number;
    chosen?: number;
    tied?: number;
    why?: Why[];
    misses: { key: string; rows: number; close?: string }[];
  }[];
  rows: number;
  sums: Sums;
};

/** Rows and sums from what arrived to what is handed over, each difference explained. */
export function AccountingOf({ t }: { t: Schemas["Table"] }) {
  return t.origin === "merged" ? (
    <Merged t={t} a={t.accounting as Accounting} />
  ) : (
    <Cleaned t={t} ledger={t.accounting as Ledger} />
  );
}

/** How a cleaned table came about: its ledger, and every change behind it. */
function Cleaned({ t, ledger }: { t: Schemas["Table"]; ledger: Ledger }) {
  const [asked, ask] = useState<Asked>({});
  return (
    <>
      <LedgerGrid ledger={ledger} onStep={(step) => ask({ step })} />
      <Section title="Every change">
        <Changes of={{ table: t.id }} ledger={ledger} asked={asked} ask={ask} />
      </Section>
      <TraceCell id={t.id} columns={ledger.columns ?? []} parent={t.parent_id} />
    </>
  );
}

const change = (text: string | undefined) =>
  !text || text === "0" ? "" : text.startsWith("-") ? `−${decimal(text.slice(1))}` : `+${decimal(text)}`;

/** The steps with what each did to rows, cells and sums; pressed, a step shows its changes. */
export function LedgerGrid({ ledger: l, onStep }: { ledger: Ledger; onStep?: (step: number) => void }) {
  const measures = Object.keys(l.sums_in);
  const written = Object.entries(l.written ?? {});
  return (
    <>
      <Grid label="Ledger">
        <thead>
          <tr>
            <Th>step</Th>
            <Th {...right}>rows</Th>
            <Th {...right}>cells changed</Th>
            {measures.map((m) => (
              <Th key={m} {...right}>
                sum of {m}
              </Th>
            ))}
            <Th>reason</Th>
          </tr>
        </thead>
        <tbody>
          <Total name="arrived" rows={l.rows_in} sums={l.sums_in} measures={measures} />
          {l.steps.map((s) => (
            <tr key={s.step}>
              <Td whiteSpace="nowrap">
                {onStep && s.cells + s.rows > 0 ? (
                  <chakra.button
                    type="button"
                    color="accent"
                    cursor="pointer"
                    textDecoration="underline"
                    title="Show what it changes"
                    onClick={() => onStep(s.step)}
                  >
                    {s.step} {stepName(s.kind)}
                  </chakra.button>
                ) : (
                  `${s.step} ${stepName(s.kind)}`
                )}
              </Td>
              <Td {...right} whiteSpace="nowrap">
                {s.rows_made != null
                  ? `${count(s.rows_made)} of ${count(s.rows_before)}`
                  : s.rows > 0 && `−${count(s.rows)}`}
              </Td>
              <Td {...right}>{s.cells > 0 && count(s.cells)}</Td>
              {measures.map((m) => (
                <Td key={m} {...right}>
                  {change(s.sums[m])}
                </Td>
              ))}
              <Td>
                {s.reason} {s.note && <chakra.span fontWeight="650">{s.note}</chakra.span>}
              </Td>
            </tr>
          ))}
          <Total name="handed over" rows={l.rows_out} sums={l.sums_out} measures={measures} />
        </tbody>
      </Grid>
      {l.steps.map((s) => s.estimated && <Estimates key={s.step} e={s.estimated} />)}
      {written.length > 0 && (
        <Text fontSize="sm" color="quiet" mt="1">
          Written in the standard form without a change of meaning:{" "}
          {written.map(([c, n]) => `${count(n)} of ${c}`).join(", ")}.
        </Text>
      )}
    </>
  );
}

/** What a step estimated: how many gaps it filled from what, and what becomes of the mean. */
function Estimates({ e }: { e: Estimated }) {
  return (
    <Box my="2">
      <Text>
        {count(e.filled)} of {plural(e.filled + e.open, "gap", "gaps")} of {e.column}{" "}
        {e.filled === 1 ? "is" : "are"} filled by {stepName(e.method)}, from{" "}
        {plural(e.observed, "value that was observed", "values that were observed")}
        {e.draws > 1 && `, drawn ${count(e.draws)} times by the seed ${e.seed}`}.
        {e.mean_then != null &&
          ` The mean goes from ${short(e.mean_observed ?? 0)} to ${short(e.mean_then)}.`}
        {e.mean_from != null &&
          ` By all draws the true mean lies from ${short(e.mean_from)} to ${short(e.mean_to ?? 0)}, with a confidence of 95 %.`}
      </Text>
      {e.warnings?.map((w) => (
        <Text key={w} role="alert" fontWeight="600" borderLeftWidth="4px" borderColor="validity" ps="2">
          {w}
        </Text>
      ))}
    </Box>
  );
}

function Total({
  name,
  rows,
  sums,
  measures,
}: {
  name: string;
  rows: number;
  sums: Sums;
  measures: string[];
}) {
  return (
    <chakra.tr fontWeight="650">
      <Td>{name}</Td>
      <Td {...right}>{count(rows)}</Td>
      <Td />
      {measures.map((m) => (
        <Td key={m} {...right}>
          {decimal(sums[m])}
        </Td>
      ))}
      <Td />
    </chakra.tr>
  );
}

/** One reason for which keys do not meet, with examples, and what would have them meet. */
function NotMet({ w, with: other }: { w: Why; with: string }) {
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
    </Box>
  );
}

function Merged({ t, a }: { t: Schemas["Table"]; a: Accounting }) {
  const inputs = useQuery(tableInputs(t.id));
  const measures = Object.keys(a.sums);
  const lacking = Object.entries(a.stack.lacking);
  return (
    <Box maxW="1000px">
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
            <tr key={i.dataset}>
              <Td>{i.dataset}</Td>
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
      {a.joins.map((j) => (
        <Section key={j.with} title={`Join with ${j.with} on ${j.on.join(" and ")}`}>
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
                  ["of these set aside", count(j.set_aside)],
                  ["added, since a key was there more than once", count(j.multiplied)],
                  ...(j.added
                    ? [[`added of ${j.with}, which no row asked for`, count(j.added)] as const]
                    : []),
                  ["rows out", count(j.rows_out)],
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
          {j.why?.map((w) => (
            <NotMet key={w.levelling} w={w} with={j.with} />
          ))}
          {j.misses.map((x) => (
            <Text key={x.key} fontSize="sm">
              {plural(x.rows, "row has", "rows have")} the key {x.key || "(missing)"}
              {x.close && `; ${j.with} has ${x.close}`}
            </Text>
          ))}
        </Section>
      ))}
      {lacking.length > 0 && (
        <Section title="Columns that not every dataset has">
          {lacking.map(([column, where]) => (
            <Text key={column} fontSize="sm">
              {column} is missing in {where.join(" and ")}; its cells are empty there.
            </Text>
          ))}
        </Section>
      )}
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
    </Box>
  );
}
