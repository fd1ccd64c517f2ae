import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { certificate, certificates } from "../client/queries";
import { Grid, More, right, Td, Th } from "../shared/grid";
import { Section, Severity, TableLink, Title } from "../shared/parts";
import { Empty, Shown } from "../shared/states";
import { count, decimal, percent, plural, when } from "../shared/words";

export function CertificatesView() {
  const all = useInfiniteQuery(certificates);
  return (
    <>
      <Title>Certificates</Title>
      <Shown query={all}>
        {(page) =>
          page.items.length === 0 ? (
            <Empty>
              Nothing has been certified yet. Open a cleaned or merged table and choose “certificate”.{" "}
              <Link to="/datasets">To the datasets</Link>
            </Empty>
          ) : (
            <Grid label="Certificates">
              <thead>
                <tr>
                  <Th {...right}>certificate</Th>
                  <Th>dataset</Th>
                  <Th>table</Th>
                  <Th>certified by</Th>
                  <Th>when</Th>
                </tr>
              </thead>
              <tbody>
                {page.items.map((c) => (
                  <tr key={c.id}>
                    <Td {...right}>
                      <Link to="/certificates/$id" params={{ id: String(c.id) }}>
                        {c.id}
                      </Link>
                    </Td>
                    <Td>{c.dataset}</Td>
                    <Td>
                      <TableLink id={c.table_id}>{c.table_id}</TableLink>
                    </Td>
                    <Td>{c.created_by}</Td>
                    <Td>{when(c.created_at)}</Td>
                  </tr>
                ))}
              </tbody>
            </Grid>
          )
        }
      </Shown>
      <More query={all} shown={all.data?.items.length ?? 0} />
    </>
  );
}

type Version = { name: string; version: number; sha256: string };

type Statement = {
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
};

/** A certificate as it can be read: what it speaks of, what was checked, changed and accepted. */
export function CertificateView() {
  const id = Number(useParams({ from: "/certificates/$id" }).id);
  const found = useQuery(certificate(id));
  return <Shown query={found}>{(c) => <Certificate c={c} s={c.statement as Statement} />}</Shown>;
}

function Certificate({ c, s }: { c: Schemas["Certificate"]; s: Statement }) {
  const download = `data:application/jose,${encodeURIComponent(c.signature)}`;
  return (
    <Box maxW="1100px">
      <Title
        aside={
          <HStack gap="4">
            <a href={download} download={`certificate-${c.id}.jws`}>
              Download the certificate
            </a>
            <a href={`/api/v1/tables/${c.table_id}/bytes`} download>
              Download the table
            </a>
          </HStack>
        }
      >
        Certificate {c.id} of {s.dataset}
      </Title>
      {c.withdrawn && (
        <Box role="alert" borderLeftWidth="4px" borderColor="validity" bg="sheet" px="3" py="2" my="2">
          <Text fontWeight="600">What it rests on was withdrawn since. {c.withdrawn}</Text>
        </Box>
      )}
      <Text>
        {s.certified_by} certified {when(s.certified_at)} that{" "}
        <TableLink id={c.table_id}>table {c.table_id}</TableLink>, {count(s.table.rows)} rows in{" "}
        {count(s.table.bytes)} bytes, reaches {percent(Number(s.audit.score))} with a pass mark of{" "}
        {percent(Number(s.audit.pass_mark))} by version {s.rulebook.version} of its rulebook.
      </Text>
      <Text fontSize="sm" color="quiet">
        SHA-256 of the table: <chakra.span fontFamily="mono">{s.table.sha256}</chakra.span>
      </Text>
      {s.table.estimates && (
        <Text>
          {plural(s.table.estimates, "cell is an estimate", "cells are estimates")}, counted as{" "}
          {s.table.estimates_are}.{" "}
          <a href={`/api/v1/tables/${c.table_id}/bytes?what=marks`} download>
            The marks
          </a>{" "}
          that say which have the SHA-256{" "}
          <chakra.span fontFamily="mono" fontSize="sm">
            {s.table.marks_sha256}
          </chakra.span>
          .
        </Text>
      )}
      <Text fontSize="sm" color="quiet">
        Check it anywhere:{" "}
        <chakra.code fontFamily="mono">proudsieve certificate verify TABLE CERTIFICATE --key KEY</chakra.code>
      </Text>
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
    </Box>
  );
}
