import { Box, chakra, HStack } from "@chakra-ui/react";
import type { ReactNode } from "react";
import type { Schemas } from "../client/client";
import { AuditAgain } from "../judge/AuditAgain";
import { Section, TableLink } from "../shared/parts";
import { count, plural, sourceNotes, when } from "../shared/words";
import { liesThere, type There } from "./there";
import { WithdrawPanel } from "./WithdrawPanel";

/** What is known of what was taken from a database. */
type Taken = {
  server: string;
  query?: string;
  snapshot?: string;
  at: string;
  rows: number;
  columns: { name: string; type: string }[];
  empty_texts?: Record<string, number>;
};

function takenFacts(taken: Taken): [string, ReactNode][] {
  const empty = Object.entries(taken.empty_texts ?? {});
  const facts: [string, ReactNode][] = [
    [
      "Taken",
      `${plural(taken.rows, "row", "rows")} of ${taken.server} as of ${when(taken.at)}${taken.snapshot ? `, snapshot ${taken.snapshot}` : ""}`,
    ],
    ["Types there", taken.columns.map((c) => `${c.name} ${c.type}`).join(", ")],
  ];
  if (empty.length > 0) {
    facts.push([
      "Empty texts",
      `${empty.map(([name, n]) => `${count(n)} in ${name}`).join(", ")}: they are not null there, and missing here as nulls are`,
    ]);
  }
  if (taken.query) {
    facts.push(["Query", <Code key="q">{taken.query}</Code>]);
  }
  return facts;
}

function thereFacts(there: There): [string, ReactNode][] {
  const facts: [string, ReactNode][] = [
    [
      "Lies in",
      `the database ${there.database} at ${there.server}${there.table ? `, as ${there.schema}.${there.table}` : ""}. It is judged there; none of its rows were taken.`,
    ],
    ["Rows there", count(there.rows)],
    ["Digest of its rows", `${there.digest}: ${there.digest_by}, whatever their order`],
    ["Types there", there.columns.map((c) => `${c.name} ${c.type}`).join(", ")],
  ];
  if (there.query) {
    facts.push(["Query", <Code key="q">{there.query}</Code>]);
  }
  return facts;
}

function Code({ children }: { children: ReactNode }) {
  return (
    <chakra.pre fontFamily="mono" fontSize="sm" whiteSpace="pre-wrap" wordBreak="break-word" m="0">
      {children}
    </chakra.pre>
  );
}

/** Where a table came from, and what was written down of it. */
export function SourcePanel({ t }: { t: Schemas["Table"] }) {
  const { taken, ...source } = t.source as Record<string, string | undefined> & { taken?: Taken };
  const facts: [string, ReactNode][] = [
    ["File", t.file_name],
    [
      "SHA-256",
      <chakra.span key="d" fontFamily="mono" fontSize="sm" wordBreak="break-all">
        {t.digest}
      </chakra.span>,
    ],
    ["Size", `${count(t.bytes)} bytes`],
    [t.origin === "delivery" ? "Taken in by" : "Made by", `${t.created_by}, ${when(t.created_at)}`],
  ];
  if (t.origin === "delivery") {
    facts.push(
      ...sourceNotes.map((n): [string, ReactNode] => [
        n.label,
        source[n.name] || <chakra.span color="quiet">not written down</chakra.span>,
      ]),
    );
    if (source.address) {
      facts.push(["Came from", source.address]);
    }
    if (taken) {
      facts.push(...takenFacts(taken));
    }
    const there = liesThere(t);
    if (there) {
      facts.push(...thereFacts(there));
    }
  }
  if (t.parent_id) {
    facts.push([
      "Made from",
      <span key="p">
        <TableLink id={t.parent_id}>table {t.parent_id}</TableLink> by the fix plan {t.declaration}
      </span>,
    ]);
  }
  return (
    <>
      <chakra.dl display="grid" gridTemplateColumns="auto 1fr" columnGap="5" rowGap="1" maxW="900px">
        {facts.map(([name, value]) => (
          <Box key={name} display="contents">
            <chakra.dt color="quiet">{name}</chakra.dt>
            <chakra.dd m="0">{value}</chakra.dd>
          </Box>
        ))}
      </chakra.dl>
      <HStack gap="4" mt="3">
        {!t.bytes_let_go && (
          <a href={`/api/v1/tables/${t.id}/bytes`} download>
            Download the bytes
          </a>
        )}
        {t.change_log_digest && (
          <a href={`/api/v1/tables/${t.id}/bytes?what=change-log`} download>
            Download the change log
          </a>
        )}
      </HStack>
      {!t.withdrawn_at && (
        <Section title="Audit">
          <AuditAgain id={t.id} />
        </Section>
      )}
      <WithdrawPanel t={t} />
    </>
  );
}
