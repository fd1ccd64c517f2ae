import { Box, chakra, Text } from "@chakra-ui/react";
import type { Schemas } from "../client/client";
import { Grid, right, Td, Th } from "../shared/grid";
import { Section, Severity } from "../shared/parts";
import { Empty } from "../shared/states";
import { count, decimal, originWord, plural, when } from "../shared/words";

type Version = { name: string; version: number; sha256: string };

export type Statement = {
  dataset: string;
  table: {
    sha256: string;
    bytes: number;
    rows: number;
    columns: { name: string; type: string; score: string; filled: number; missing: number }[];
    sums: Record<string, string>;
    marks_sha256?: string;
    estimates?: number;
    estimates_are?: string;
    there?: {
      address: string;
      server: string;
      relation: string;
      query?: string;
      digest: string;
      digest_by: string;
      at: string;
      notes?: string[];
    };
  };
  rulebook: Version;
  audit: { score: string; pass_mark: string; rules: Schemas["Judged"][] };
  inputs: {
    dataset: string;
    delivery_sha256: string;
    file_name: string;
    fix_plan?: Version;
    rows_delivered: number;
    rows_handed_over: number;
    cells_changed: number;
    fixed_by?: string;
  }[];
  merge?: { plan: Version; merged_by: string };
  waivers: {
    dataset: string;
    rule: string;
    reason: string;
    by: string;
    until: string;
    covers?: string;
    only_this_delivery?: boolean;
    rows?: number;
  }[];
  eased?: {
    dataset: string;
    version: number;
    says: string[];
    reason: string;
    by: string;
    agreed_by: string;
    at: string;
  }[];
  accepted: { rule: string; severity: string; found: string }[];
  certified_by: string;
  certified_at: string;
  chain?: Link[];
  questions?: {
    code: string;
    dataset: string;
    found: string;
    about?: string;
    answer?: string;
    right?: Record<string, string>;
    note?: string;
    by?: string;
    became?: string;
  }[];
  conditions?: string;
  valid_until?: string;
};

type Ledger = {
  steps: { step: number; kind: string; reason: string; cells: number; rows: number; off?: boolean }[];
};

type Link = {
  sha256: string;
  dataset: string;
  origin: string;
  file_name: string;
  by: string;
  at: string;
  source?: Record<string, string>;
  plan?: Version;
  ledger?: Ledger;
  certificate?: string;
  judged?: {
    rulebook?: Version;
    rows: number;
    score: string;
    passed: boolean | null;
    findings: { rule: string; severity: string; rows: number; found: string; became?: string }[];
  };
};

/** What a certificate says: of what the table was made, what was found, changed, accepted, asked, and how it was judged. */
export function StatementShown({ s }: { s: Statement }) {
  return (
    <>
      {s.conditions && (
        <Section title="Conditions of use">
          <Text whiteSpace="pre-wrap">{s.conditions}</Text>
        </Section>
      )}
      {s.table.there && <There there={s.table.there} />}
      {s.chain && <Chain chain={s.chain} />}
      {!s.table.there && <Inputs s={s} />}
      <Section title="Accepted as it is">
        {s.waivers.length + s.accepted.length === 0 && <Empty>Nothing had to be accepted.</Empty>}
        {s.waivers.map((w) => (
          <Text key={w.dataset + w.rule + w.reason + w.covers}>
            <chakra.span fontFamily="mono">{w.rule}</chakra.span> of {w.dataset}, waived by {w.by}
            {w.covers && ` for ${w.covers}`}
            {w.until ? ` until ${w.until}` : w.only_this_delivery ? " for this delivery alone" : " for good"}:{" "}
            {w.reason} {w.rows != null && `It covers ${plural(w.rows, "row", "rows")} of what is found.`}
          </Text>
        ))}
        {s.accepted.map((a) => (
          <Text key={a.rule}>
            <Severity of={a.severity} /> {a.found} <chakra.span fontFamily="mono">{a.rule}</chakra.span>
          </Text>
        ))}
      </Section>
      {s.eased && s.eased.length > 0 && (
        <Section title="What is asked less than before">
          {s.eased.map((e) => (
            <Box key={`${e.dataset}${e.version}`} mb="1">
              <Text>
                Version {e.version} of the rulebook of {e.dataset}, by {e.by}
                {e.agreed_by !== e.by && `, agreed to by ${e.agreed_by}`}, {when(e.at)}: {e.reason}
              </Text>
              <chakra.ul pl="5" listStyleType="disc" fontSize="sm">
                {e.says.map((x) => (
                  <li key={x}>{x}</li>
                ))}
              </chakra.ul>
            </Box>
          ))}
        </Section>
      )}
      <Section title={`${count(s.audit.rules.length)} rules were judged`}>
        <Grid label="Rules judged" max="260px">
          <tbody>
            {s.audit.rules.map((r) => (
              <tr key={r.rule}>
                <Td fontFamily="mono" fontSize="sm">
                  {r.rule}
                </Td>
                <Td>{r.says}</Td>
                <Td {...right}>{r.rows === 0 ? "holds" : `${count(r.rows)} rows break it`}</Td>
              </tr>
            ))}
          </tbody>
        </Grid>
      </Section>
      <Section title="Columns">
        <Grid label="Columns of the table" max="260px">
          <thead>
            <tr>
              <Th>column</Th>
              <Th>type</Th>
              <Th {...right}>score</Th>
              <Th {...right}>filled</Th>
              <Th {...right}>missing</Th>
              <Th {...right}>sum</Th>
            </tr>
          </thead>
          <tbody>
            {s.table.columns.map((k) => (
              <tr key={k.name}>
                <Td>{k.name}</Td>
                <Td>{k.type}</Td>
                <Td {...right}>{k.score}</Td>
                <Td {...right}>{count(k.filled)}</Td>
                <Td {...right}>{count(k.missing)}</Td>
                <Td {...right}>{decimal(s.table.sums[k.name])}</Td>
              </tr>
            ))}
          </tbody>
        </Grid>
      </Section>
      {s.questions && s.questions.length > 0 && (
        <Section title="What the owners of the data were asked">
          {s.questions.map((q) => (
            <Text key={q.code} fontSize="sm">
              <chakra.span fontFamily="mono">{q.code}</chakra.span> {q.about || q.found}:{" "}
              {q.answer ? (
                <>
                  <b>{q.answer.replaceAll("_", " ")}</b>
                  {Object.entries(q.right ?? {}).map(([c, v]) => ` ${c} ${v}`)} {q.note} ({q.by}). {q.became}
                </>
              ) : (
                "not answered."
              )}
            </Text>
          ))}
        </Section>
      )}
    </>
  );
}

/** Where a table lies that was judged there, and by what it is known again. */
function There({ there }: { there: NonNullable<Statement["table"]["there"]> }) {
  return (
    <Section title="Where it lies">
      <Text>
        It is {there.relation} at {there.address} ({there.server}), as it was {when(there.at)}. None of its
        rows were taken; what is said here holds as long as the digest of its rows stays the same.
      </Text>
      {there.query && (
        <Text fontFamily="mono" fontSize="sm">
          {there.query}
        </Text>
      )}
      <Text fontSize="sm" color="quiet">
        Digest of its rows, in any order: <chakra.span fontFamily="mono">{there.digest}</chakra.span> (
        {there.digest_by})
      </Text>
      {there.notes?.map((note) => (
        <Text key={note}>{note}</Text>
      ))}
    </Section>
  );
}

/** From what arrived to what is handed over. */
function Inputs({ s }: { s: Statement }) {
  return (
    <Section title="From what arrived to what is handed over">
      <Grid label="Inputs">
        <thead>
          <tr>
            <Th>dataset</Th>
            <Th>file</Th>
            <Th>put right by</Th>
            <Th {...right}>rows delivered</Th>
            <Th {...right}>cells changed</Th>
            <Th {...right}>rows handed over</Th>
          </tr>
        </thead>
        <tbody>
          {s.inputs.map((i) => (
            <tr key={i.dataset}>
              <Td>{i.dataset}</Td>
              <Td title={i.delivery_sha256}>{i.file_name}</Td>
              <Td>
                {i.fix_plan && `${i.fix_plan.name} version ${i.fix_plan.version}`}, {i.fixed_by}
              </Td>
              <Td {...right}>{count(i.rows_delivered)}</Td>
              <Td {...right}>{count(i.cells_changed)}</Td>
              <Td {...right}>{count(i.rows_handed_over)}</Td>
            </tr>
          ))}
        </tbody>
      </Grid>
      {s.merge && (
        <Text mt="1">
          Put together by the merge {s.merge.plan.name} version {s.merge.plan.version}, run by{" "}
          {s.merge.merged_by}.
        </Text>
      )}
    </Section>
  );
}

/** Every table that it rests on, down to each delivery, with what was found in it and done to it. */
function Chain({ chain }: { chain: Link[] }) {
  return (
    <Section title="What it rests on, down to each delivery">
      <Grid label="The chain" max="420px">
        <thead>
          <tr>
            <Th>what</Th>
            <Th>file</Th>
            <Th {...right}>rows</Th>
            <Th {...right}>score</Th>
            <Th>made by</Th>
            <Th>found, and what became of it</Th>
          </tr>
        </thead>
        <tbody>
          {chain.map((l, k) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: two tables of the chain can have the same bytes
            <tr key={k}>
              <Td>
                {originWord[l.origin]} of {l.dataset}
                {l.certificate && <Text fontSize="sm">with a certificate of its own</Text>}
              </Td>
              <Td title={l.sha256}>{l.file_name}</Td>
              <Td {...right}>{count(l.judged?.rows)}</Td>
              <Td {...right}>{l.judged?.score}</Td>
              <Td>
                {l.plan && `${l.plan.name} version ${l.plan.version}, `}
                {l.by}, {when(l.at)}
                {l.ledger && (
                  <chakra.details fontSize="sm">
                    <summary>{plural(l.ledger.steps.length, "step", "steps")}</summary>
                    {l.ledger.steps.map((x) => (
                      <Text key={x.step}>
                        {x.step}. {x.kind.replaceAll("_", " ")}: {plural(x.cells, "cell", "cells")}
                        {x.rows > 0 && `, ${plural(x.rows, "row", "rows")} left`}. {x.reason}
                      </Text>
                    ))}
                  </chakra.details>
                )}
              </Td>
              <Td>
                {!l.judged ? (
                  "not audited"
                ) : l.judged.findings.length === 0 ? (
                  "nothing"
                ) : (
                  <chakra.details fontSize="sm">
                    <summary>{plural(l.judged.findings.length, "rule is", "rules are")} broken</summary>
                    {l.judged.findings.map((f) => (
                      <Text key={f.rule}>
                        {f.found} <chakra.span color="quiet">{f.became}</chakra.span>
                      </Text>
                    ))}
                  </chakra.details>
                )}
              </Td>
            </tr>
          ))}
        </tbody>
      </Grid>
    </Section>
  );
}
