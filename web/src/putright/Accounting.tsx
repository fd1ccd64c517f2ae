import { Box, chakra, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../client/client";
import type { Accounting } from "../merge/accounting";
import { MergeAccounting } from "../merge/MergeAccounting";
import { TraceRow } from "../merge/TraceRow";
import { Grid, right, Td, Th } from "../shared/grid";
import { Section } from "../shared/parts";
import { Total } from "../shared/Total";
import { count, decimal, plural, short } from "../shared/words";
import { type Asked, Changes } from "./Changes";
import { type Estimated, type Ledger, stepName } from "./ledger";

/** Rows and sums from what arrived to what is handed over, each difference explained. */
export function AccountingOf({ t }: { t: Schemas["Table"] }) {
  return t.origin === "merged" ? (
    <MergeAccounting t={t} a={t.accounting as Accounting} />
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
      <TraceRow t={t} />
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
