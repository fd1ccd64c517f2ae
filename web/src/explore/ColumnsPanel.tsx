import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { Link, useNavigate } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import type { Dimension, Schemas } from "../client/client";
import { Legend, Mesh } from "../shared/Mesh";
import { Gaps, SmallPicture } from "../shared/Picture";
import { Grid, right, Section, Td, Th, Value } from "../shared/parts";
import { SaveTable } from "../shared/save";
import { count, glance, percent, plural, shareOf } from "../shared/words";
import { LeadActions } from "./LeadActions";

type Table = Schemas["Table"];
type Audit = Schemas["AuditShown"];
type Column = Schemas["Column"];

/** The columns of a table as one scannable list: what each is, where it misses, how its values lie. */
export function ColumnsPanel({ t, a }: { t: Table; a: Audit }) {
  const r = a.result;
  return (
    <>
      <HStack justify="space-between" flexWrap="wrap" mb="1">
        <Summary a={a} />
        <HStack gap="4">
          <Legend />
          <SaveTable name={`${t.dataset} columns`} rows={() => columnRows(r)} />
        </HStack>
      </HStack>
      <Grid label="Columns" max={r.leads.length > 0 ? "calc(100vh - 330px)" : "calc(100vh - 265px)"}>
        <thead>
          <tr>
            <Th left="0" zIndex="2">
              column
            </Th>
            <Th>what it is</Th>
            <Th>picture</Th>
            <Th {...right}>missing</Th>
            <Th>where</Th>
            <Th {...right}>score</Th>
            <Th>mesh, first row to last</Th>
            <Th {...right}>distinct</Th>
            <Th>from</Th>
            <Th>to</Th>
            <Th {...right}>mean</Th>
            <Th>most frequent</Th>
          </tr>
        </thead>
        <tbody>
          {r.columns.map((c) => (
            <Row key={c.name} t={t} a={a} c={c} />
          ))}
        </tbody>
      </Grid>
      <Leads t={t} a={a} />
      <Patterns r={r} />
    </>
  );
}

function columnRows(r: Schemas["Result"]) {
  return [
    ["column", "what it is", "type", "filled", "missing", "distinct", "from", "to", "sum", "mean", "score"],
    ...r.columns.map((c) => [
      c.name,
      c.role,
      c.type,
      c.filled,
      c.missing,
      c.distinct,
      c.lowest,
      c.highest,
      c.sum,
      c.mean,
      c.score,
    ]),
  ];
}

/** How many leads are shown before somebody asks for the others. */
const leadsShown = 8;

/** What looks odd although no rule asked, what may cost most first; like is gathered with like. */
function Leads({ t, a }: { t: Table; a: Audit }) {
  const leads = a.result.leads;
  const [open, setOpen] = useState<string[]>([]);
  if (leads.length === 0) {
    return null;
  }
  const kinds = [...new Set(leads.map((l) => l.kind))].map((kind) => leads.filter((l) => l.kind === kind));
  const all = open.includes("");
  const shown = all ? kinds : kinds.slice(0, leadsShown);
  return (
    <Section title="What looks odd, though no rule asked">
      {shown.map((alike) => {
        const kind = alike[0].kind;
        const told = open.includes(kind) || alike.length < 3 ? alike : alike.slice(0, 1);
        return (
          <Box key={kind}>
            {told.map((l) => (
              <Box key={l.says} fontSize="sm">
                {l.column && (
                  <>
                    <Link
                      to="/tables/$id"
                      params={{ id: String(t.id) }}
                      search={{ view: "column", column: l.column }}
                    >
                      {l.column}
                    </Link>
                    :{" "}
                  </>
                )}
                {l.says}
                {l.first_rows.length > 0 && (
                  <chakra.span color="quiet">
                    {" "}
                    Row {l.first_rows.slice(0, 3).map(count).join("; ")}
                    {l.first_rows.length > 3 && "; …"}
                  </chakra.span>
                )}
                {"  "}
                <LeadActions audit={a} lead={l} />
              </Box>
            ))}
            {told.length < alike.length && (
              <More onClick={() => setOpen([...open, kind])}>
                and {alike.length - told.length} more like it
              </More>
            )}
          </Box>
        );
      })}
      {shown.length < kinds.length && (
        <More onClick={() => setOpen([...open, ""])}>
          and {plural(leads.length - shown.flat().length, "more", "more")} of other kinds
        </More>
      )}
    </Section>
  );
}

function More({ onClick, children }: { onClick: () => void; children: ReactNode }) {
  return (
    <chakra.button fontSize="sm" color="accent" textDecoration="underline" onClick={onClick}>
      {children}
    </chakra.button>
  );
}

/** Which columns miss together. */
function Patterns({ r }: { r: Schemas["Result"] }) {
  const complete = r.missing_together.find((p) => p.missing.length === 0)?.rows ?? 0;
  const lacking = r.missing_together.filter((p) => p.missing.length > 0);
  if (lacking.length === 0) {
    return null;
  }
  return (
    <Section title="What misses together">
      <Text fontSize="sm">
        {count(complete)} of {plural(r.rows, "row", "rows")} are complete.
      </Text>
      {lacking.slice(0, 12).map((p) => (
        <Text key={p.missing.join()} fontSize="sm">
          {plural(p.rows, "row lacks", "rows lack")} {p.missing.join(", ")}.
        </Text>
      ))}
      {(lacking.length > 12 || r.more_together) && <Text fontSize="sm">There are more combinations.</Text>}
    </Section>
  );
}

function Summary({ a }: { a: Audit }) {
  const r = a.result;
  return (
    <Text>
      {plural(r.records, "record", "records")}: {plural(r.rows, "row", "rows")} and{" "}
      {plural(r.set_aside, "line", "lines")} set aside
      {r.defect_count > 0 && `, ${plural(r.defect_count, "defect", "defects")} in the bytes`}.{" "}
      {a.rulebook
        ? `Judged by rulebook version ${a.rulebook}: ${percent(r.score)}, pass mark ${percent(r.pass_mark)}.`
        : "The dataset has no rulebook, so nothing is judged but the types."}
      {Object.entries(r.renamed ?? {}).map(
        ([name, was]) => ` ${name} stands as ${was} in the file, a name that it had before.`,
      )}
    </Text>
  );
}

function useShowRows(t: Table) {
  const navigate = useNavigate();
  return (column: string, dimension: Dimension, firstRow: number) =>
    navigate({
      to: "/tables/$id",
      params: { id: String(t.id) },
      search: { view: "rows", column, dimension, after: firstRow - 1 || undefined },
    });
}

function Row({ t, a, c }: { t: Table; a: Audit; c: Column }) {
  const showRows = useShowRows(t);
  const frequent = c.frequent[0];
  return (
    <tr>
      <Td
        position="sticky"
        left="0"
        maxW="200px"
        overflow="hidden"
        textOverflow="ellipsis"
        whiteSpace="nowrap"
        title={c.name}
      >
        <Link to="/tables/$id" params={{ id: String(t.id) }} search={{ view: "column", column: c.name }}>
          {c.name}
        </Link>
      </Td>
      <Td color="quiet" whiteSpace="nowrap">
        {c.role}
        {c.role !== c.type && `, ${c.type}`}
      </Td>
      <Td>
        <SmallPicture c={c} />
      </Td>
      <Td {...right} whiteSpace="nowrap" title={plural(c.missing, "cell", "cells")}>
        {c.missing > 0 && shareOf(c.missing, a.result.rows)}
      </Td>
      <Td>
        <Gaps c={c} rows={a.result.rows} />
      </Td>
      <Td {...right} fontWeight={c.score < 100 ? "650" : "400"}>
        {percent(c.score)}
      </Td>
      <Td>
        <Mesh
          mesh={c.mesh}
          rows={a.result.rows}
          name={c.name}
          onPress={(first, dimension) => showRows(c.name, dimension, first)}
        />
      </Td>
      <Td
        {...right}
        whiteSpace="nowrap"
        title={c.distinct_error ? `estimated, to within ${percent(100 * c.distinct_error)} %` : undefined}
      >
        {c.distinct_error ? "≈ " : ""}
        {count(c.distinct)}
      </Td>
      <Td {...cell}>{c.lowest && <Value text={c.lowest} />}</Td>
      <Td {...cell}>{c.highest && <Value text={c.highest} />}</Td>
      <Td {...right}>{glance(c.mean)}</Td>
      <Td {...cell}>
        {frequent && c.distinct < c.filled && (
          <>
            <Value text={frequent.text} /> ×{c.at_least && "≥"}
            {count(frequent.rows)}
          </>
        )}
      </Td>
    </tr>
  );
}

const cell = { whiteSpace: "nowrap", maxW: "150px", overflow: "hidden", textOverflow: "ellipsis" } as const;

/** Bars of how often texts occur; the scale is the share of the whole. */
export function Frequencies({ of, total }: { of: Schemas["Frequency"][]; total: number }) {
  return (
    <Box>
      {of.map((f) => (
        <HStack key={f.text} fontSize="sm" gap="2">
          <Box w="150px" overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap" title={f.text}>
            <Value text={f.text} />
          </Box>
          <Box flex="1" aria-hidden="true">
            <Box h="2.5" bg="quiet" w={`${(100 * f.rows) / Math.max(total, 1)}%`} minW="1px" />
          </Box>
          <Text w="60px" {...right}>
            {count(f.rows)}
          </Text>
        </HStack>
      ))}
    </Box>
  );
}
