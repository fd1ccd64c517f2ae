import { chakra, Text } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "../client/client";
import { Grid, right, Td, Th } from "../shared/grid";
import { Section } from "../shared/parts";
import { Progress, Trouble } from "../shared/states";
import { count, decimal, percent, plural } from "../shared/words";
import { LedgerGrid } from "./Accounting";
import { type Asked, Changes, Refused } from "./Changes";
import { type Preview, stepName } from "./ledger";
import { type Settle, Undecided } from "./Undecided";

/** What became of a preview or of applying a plan; settle puts a choice of what stays into a step. */
export function Outcome({ job, settle }: { job: Schemas["Job"]; settle: Settle }) {
  if (job.state === "failed") {
    return <Trouble error={new Error(job.error)} />;
  }
  if (!job.ended_at) {
    return <Progress job={job} />;
  }
  if (job.result_table) {
    return (
      <Text role="status">
        {(job.result as { message?: string } | null)?.message || "The plan is applied:"}{" "}
        <Link to="/tables/$id" params={{ id: String(job.result_table) }} search={{ view: "accounting" }}>
          table {job.result_table}
        </Link>{" "}
        is the cleaned table, with its ledger and change log.
      </Text>
    );
  }
  return job.result ? <Previewed p={job.result as Preview} job={job.id} settle={settle} /> : null;
}

/** What would become of the merges that take the table which the plan makes. */
function MergesThen({ all }: { all: NonNullable<Preview["merges"]> }) {
  if (all.length === 0) {
    return null;
  }
  return (
    <Section title="The merges that take the table, now and then">
      <Grid label="Merges now and then">
        <thead>
          <tr>
            <Th>merge</Th>
            <Th {...right}>rows now</Th>
            <Th {...right}>rows then</Th>
            <Th>sums now</Th>
            <Th>sums then</Th>
            <Th>without a partner then</Th>
          </tr>
        </thead>
        <tbody>
          {all.map((m) => (
            <tr key={m.merge}>
              <Td>
                <Link to="/merges" search={{ merge: m.merge }}>
                  {m.merge}
                </Link>
              </Td>
              <Td {...right}>{m.now ? count(m.now.rows) : "not run yet"}</Td>
              <Td {...right}>{m.then && count(m.then.rows)}</Td>
              <Td>{m.now && summed(m.now.sums)}</Td>
              <Td>{m.then && summed(m.then.sums)}</Td>
              <Td>
                {m.refused ??
                  m.then?.joins
                    .filter((j) => j.unmatched > 0)
                    .map((j) => `${count(j.unmatched)} in ${j.with}`)
                    .join(", ")}
              </Td>
            </tr>
          ))}
        </tbody>
      </Grid>
    </Section>
  );
}

const summed = (sums: Record<string, string>) =>
  Object.entries(sums)
    .map(([m, sum]) => `${m} ${decimal(sum)}`)
    .join(", ");

function Previewed({ p, job, settle }: { p: Preview; job: number; settle: Settle }) {
  const [asked, ask] = useState<Asked>({});
  const then = new Map(p.after.findings.map((f) => [f.rule, f.rows]));
  const now = new Map(p.before.findings.map((f) => [f.rule, f.rows]));
  const rules = [...new Set([...now.keys(), ...then.keys()])];
  const columns = [...new Set([...p.before.columns, ...p.after.columns].map((c) => c.name))];
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
      <Refused ledger={p.ledger} />
      {p.since?.map((s) => (
        <Text key={s.step} role={s.stops ? "alert" : undefined} fontWeight={s.stops ? "600" : "400"}>
          Step {s.step}, {stepName(s.kind)}, touches {plural(s.touched, "cell or row", "cells and rows")}; on
          the delivery before {s.before === 1 ? "it was" : "they were"} {count(s.before)}.
          {s.stops && " That is far more: look at it before you apply the plan."}
        </Text>
      ))}
      <Undecided ledger={p.ledger} settle={settle} />
      <MergesThen all={p.merges ?? []} />
      <Section title="What each step does">
        <LedgerGrid ledger={p.ledger} onStep={(step) => ask({ step })} />
      </Section>
      <Section title="Old and new, side by side">
        <Changes of={{ job }} ledger={p.ledger} asked={asked} ask={ask} />
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
      <Sums p={p} />
      <LeadsThen p={p} />
      <Section title="Scores of the columns, now and then">
        <Grid label="Scores now and then">
          <thead>
            <tr>
              <Th>column</Th>
              <Th {...right}>now</Th>
              <Th {...right}>then</Th>
            </tr>
          </thead>
          <tbody>
            {columns.map((name) => (
              <tr key={name}>
                <Td>{name}</Td>
                <Td {...right}>{percent(p.before.columns.find((c) => c.name === name)?.score)}</Td>
                <Td {...right}>{percent(p.after.columns.find((c) => c.name === name)?.score)}</Td>
              </tr>
            ))}
          </tbody>
        </Grid>
      </Section>
    </>
  );
}

/** The sums of the measures of both tables. */
function Sums({ p }: { p: Preview }) {
  const measures = [...new Set([...Object.keys(p.before.sums), ...Object.keys(p.after.sums)])];
  if (measures.length === 0) {
    return null;
  }
  return (
    <Section title="Sums, now and then">
      <Grid label="Sums now and then">
        <thead>
          <tr>
            <Th>measure</Th>
            <Th {...right}>now</Th>
            <Th {...right}>then</Th>
          </tr>
        </thead>
        <tbody>
          {measures.map((m) => (
            <tr key={m}>
              <Td>{m}</Td>
              <Td {...right}>{decimal(p.before.sums[m])}</Td>
              <Td {...right}>{decimal(p.after.sums[m])}</Td>
            </tr>
          ))}
        </tbody>
      </Grid>
    </Section>
  );
}

type Lead = Preview["after"]["leads"][number];
const lead = (l: Lead) => `${l.kind} ${l.column}`;

/** What looks odd that would not any more, and what would look odd that does not now. */
function LeadsThen({ p }: { p: Preview }) {
  const now = new Set(p.before.leads.map(lead));
  const then = new Set(p.after.leads.map(lead));
  const gone = p.before.leads.filter((l) => !then.has(lead(l)));
  const come = p.after.leads.filter((l) => !now.has(lead(l)));
  const stay = p.after.leads.length - come.length;
  if (gone.length + come.length + stay === 0) {
    return null;
  }
  return (
    <Section title="What looks odd, now and then">
      <Text fontSize="sm" color="quiet">
        {plural(stay, "thing that looks odd stays", "things that look odd stay")}.
      </Text>
      {come.map((l) => (
        <Text key={lead(l)} role="alert">
          <b>New:</b> {l.says}
        </Text>
      ))}
      {gone.map((l) => (
        <Text key={lead(l)}>
          <b>Gone:</b> {l.says}
        </Text>
      ))}
    </Section>
  );
}
