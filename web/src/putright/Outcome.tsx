import { chakra, Text } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { Grid, right, Td, Th } from "../shared/grid";
import { Section } from "../shared/parts";
import { Progress, Trouble } from "../shared/states";
import { Value } from "../shared/Value";
import { count, percent, plural } from "../shared/words";
import { type Ledger, LedgerGrid } from "./Accounting";

type Change = {
  step: number;
  row: number;
  line: number;
  column?: string;
  old: string;
  new: string;
  gone?: Record<string, string>;
  kept_by?: number;
  reason: string;
};

type Preview = {
  ledger: Ledger;
  change_count: number;
  changes: Change[];
  before: Schemas["Result"];
  after: Schemas["Result"];
};

export function Outcome({ job }: { job: Schemas["Job"] }) {
  if (job.state === "failed") {
    return <Trouble error={new Error(job.error)} />;
  }
  if (!job.ended_at) {
    return <Progress job={job} />;
  }
  if (job.result_table) {
    return (
      <Text role="status">
        The plan is applied:{" "}
        <Link to="/tables/$id" params={{ id: String(job.result_table) }} search={{ view: "accounting" }}>
          table {job.result_table}
        </Link>{" "}
        is the cleaned table, with its ledger and change log.
      </Text>
    );
  }
  return job.result ? <Previewed p={job.result as Preview} /> : null;
}

function Previewed({ p }: { p: Preview }) {
  const then = new Map(p.after.findings.map((f) => [f.rule, f.rows]));
  const now = new Map(p.before.findings.map((f) => [f.rule, f.rows]));
  const rules = [...new Set([...now.keys(), ...then.keys()])];
  return (
    <>
      <Text role="status">
        Nothing has been done yet. The plan would make {plural(p.change_count, "change", "changes")}; the
        score would go from <chakra.span fontWeight="650">{percent(p.before.score)}</chakra.span> to{" "}
        <chakra.span fontWeight="650">{percent(p.after.score)}</chakra.span>,{" "}
        {p.after.passed == null
          ? "without a verdict, since nothing is declared"
          : `and the table would ${p.after.passed ? "pass" : "still fall short"}`}
        .
      </Text>
      <Section title="Old and new, side by side">
        <Grid label="Changes, old and new" max="290px">
          <thead>
            <tr>
              <Th {...right}>row</Th>
              <Th {...right}>step</Th>
              <Th>column</Th>
              <Th>old</Th>
              <Th>new</Th>
            </tr>
          </thead>
          <tbody>
            {p.changes.map((c) => (
              <tr key={`${c.row} ${c.step} ${c.column}`}>
                <Td {...right}>{count(c.row)}</Td>
                <Td {...right}>{c.step}</Td>
                <Td>{c.column ?? "whole row"}</Td>
                <Td maxW="260px" overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap">
                  {c.gone ? (
                    <Value text={Object.values(c.gone).filter(Boolean).join(" | ")} />
                  ) : (
                    <Value text={c.old} />
                  )}
                </Td>
                <Td>
                  {c.gone ? (
                    c.kept_by ? (
                      `leaves the table; row ${count(c.kept_by)} stays`
                    ) : (
                      "leaves the table"
                    )
                  ) : (
                    <Value text={c.new} />
                  )}
                </Td>
              </tr>
            ))}
          </tbody>
        </Grid>
        {p.change_count > p.changes.length && (
          <Text fontSize="sm" color="quiet">
            The first {count(p.changes.length)} of {count(p.change_count)} changes.
          </Text>
        )}
      </Section>
      <Section title="Rows and sums">
        <LedgerGrid ledger={p.ledger} />
      </Section>
      <Section title="Rules and keys, now and then">
        <Grid label="Findings now and then">
          <thead>
            <tr>
              <Th>rule</Th>
              <Th {...right}>rows now</Th>
              <Th {...right}>rows then</Th>
            </tr>
          </thead>
          <tbody>
            {rules.map((r) => (
              <tr key={r}>
                <Td fontFamily="mono" fontSize="sm">
                  {r}
                </Td>
                <Td {...right}>{count(now.get(r) ?? 0)}</Td>
                <Td {...right}>{count(then.get(r) ?? 0)}</Td>
              </tr>
            ))}
          </tbody>
        </Grid>
      </Section>
      <Section title="Scores of the columns, now and then">
        <Grid label="Scores now and then">
          <tbody>
            {p.before.columns.map((c, i) => (
              <tr key={c.name}>
                <Td>{c.name}</Td>
                <Td {...right}>{percent(c.score)}</Td>
                <Td {...right}>{percent(p.after.columns[i].score)}</Td>
              </tr>
            ))}
          </tbody>
        </Grid>
      </Section>
    </>
  );
}
