import { Box, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearch } from "@tanstack/react-router";
import { CertificatePanel } from "../certify/CertificatePanel";
import { api, type Schemas, take } from "../client/client";
import { audit, table, useJob, usePendingAudit } from "../client/queries";
import { ReadingPanel } from "../deliver/ReadingPanel";
import { SourcePanel } from "../deliver/SourcePanel";
import { liesThere, viewsThere } from "../deliver/there";
import { Withdrawn } from "../deliver/WithdrawPanel";
import { CodesPanel } from "../explore/CodesPanel";
import { ColumnsPanel } from "../explore/ColumnsPanel";
import { ColumnPanel } from "../explore/column/ColumnPanel";
import { ComparePanel } from "../explore/compare/ComparePanel";
import { GroupsPanel } from "../explore/GroupsPanel";
import { MissingPanel } from "../explore/missing/MissingPanel";
import { RelationsPanel } from "../explore/relations/RelationsPanel";
import { RowsPanel } from "../explore/rows/RowsPanel";
import { TallyPanel } from "../explore/tally/TallyPanel";
import { LineagePanel } from "../merge/LineagePanel";
import { TotalsPanel } from "../merge/TotalsPanel";
import { AccountingOf } from "../putright/Accounting";
import { PathBar } from "../shared/PathBar";
import { Title, Verdict } from "../shared/parts";
import { Questions } from "../shared/Questions";
import { Progress, Shown } from "../shared/states";
import { bytes, count, originWord, plural } from "../shared/words";
import { AuditAgain, NextStep } from "./AuditAgain";
import { FindingsPanel } from "./FindingsPanel";

/** A delivery, or a table made of one: the path, the verdict, and views of what is in it. */
export function TableView() {
  const id = Number(useParams({ from: "/tables/$id" }).id);
  const found = useQuery(table(id));
  return <Shown query={found}>{(t) => <Loaded t={t} />}</Shown>;
}

function Loaded({ t }: { t: Schemas["Table"] }) {
  const search = useSearch({ from: "/tables/$id" });
  const there = liesThere(t);
  const all = [
    "columns",
    "findings",
    "groups",
    "codes",
    "rows",
    "tally",
    "relations",
    "missing",
    "compare",
    "totals",
    "reading",
    ...(t.accounting ? ["accounting"] : []),
    "lineage",
    "source",
    ...(t.origin === "delivery" ? [] : ["certificate"]),
  ];
  const views = there ? viewsThere : all;
  const view = search.view === "column" || views.includes(search.view ?? "") ? search.view : "columns";
  return (
    <>
      <Title
        aside={
          <HStack gap="4" fontSize="sm">
            <Text color="quiet">
              {originWord[t.origin]} {t.id}
              {t.rows != null && `, ${count(t.rows)} rows`},{" "}
              {there ? `in the database ${there.database}` : bytes(t.bytes)}
            </Text>
            <Verdict table={t} />
          </HStack>
        }
      >
        <Link to="/datasets/$name" params={{ name: t.dataset }}>
          {t.dataset}
        </Link>{" "}
        / {t.file_name}
      </Title>
      <Withdrawn t={t} />
      <PathBar id={t.id} dataset={t.dataset} />
      <HStack
        as="nav"
        aria-label="Views of the table"
        columnGap="5"
        rowGap="1"
        flexWrap="wrap"
        borderBottomWidth="1px"
        borderColor="line"
        mb="2"
      >
        {views.map((v) => (
          <Link
            key={v}
            to="/tables/$id"
            params={{ id: String(t.id) }}
            search={{ view: v }}
            aria-current={v === view || (v === "columns" && view === "column") ? "page" : undefined}
            style={
              v === view || (v === "columns" && view === "column")
                ? { fontWeight: 700, borderBottom: "2px solid currentColor" }
                : undefined
            }
          >
            {v}
          </Link>
        ))}
        {t.origin === "delivery" && t.audit_id && !there && (
          <Link to="/tables/$id/fix" params={{ id: String(t.id) }} search={{}}>
            put right …
          </Link>
        )}
      </HStack>
      {view === "source" ? (
        <SourcePanel t={t} />
      ) : view === "accounting" ? (
        <AccountingOf t={t} />
      ) : view === "certificate" ? (
        <CertificatePanel t={t} />
      ) : view === "lineage" ? (
        <LineagePanel t={t} />
      ) : view === "rows" && there && !search.rule ? (
        <Text my="3">
          The rows lie in the database {there.database}; those that break a rule can be opened from{" "}
          <Link to="/tables/$id" params={{ id: String(t.id) }} search={{ view: "findings" }}>
            its findings
          </Link>
          .
        </Text>
      ) : view === "rows" ? (
        <RowsPanel t={t} />
      ) : view === "reading" ? (
        <ReadingPanel t={t} />
      ) : (
        <Audited t={t} view={view ?? "columns"} />
      )}
    </>
  );
}

function Audited({ t, view }: { t: Schemas["Table"]; view: string }) {
  const pending = usePendingAudit(t);
  const job = useJob(pending?.id);
  const stop = useMutation({
    mutationFn: (id: number) => take(api.POST("/jobs/{id}/stop", { params: { path: { id } } })),
  });
  const failed = pending?.state === "failed" ? pending : job?.state === "failed" ? job : undefined;
  return (
    <>
      {failed && (
        <Box role="alert" borderLeftWidth="4px" borderColor="validity" pl="2" my="2">
          <Text fontWeight="600">The audit failed.</Text>
          <Text whiteSpace="pre-wrap">{failed.error}</Text>
          <AuditAgain id={t.id} />
        </Box>
      )}
      {!failed && job && !job.ended_at && <Progress job={job} onStop={() => stop.mutate(job.id)} />}
      {t.audit_id != null && <AuditPanels t={t} auditId={t.audit_id} view={view} />}
    </>
  );
}

function AuditPanels({ t, auditId, view }: { t: Schemas["Table"]; auditId: number; view: string }) {
  const result = useQuery(audit(auditId));
  return (
    <Shown query={result}>
      {(a) => (
        <>
          <NextStep t={t} a={a} />
          <Estimates t={t} of={a.result.estimates} />
          <JudgedThere of={a.result.there} />
          <AuditPanel t={t} a={a} view={view} />
        </>
      )}
    </Shown>
  );
}

/** How many cells are estimates, what they count as, and what belongs to the table for it. */
function Estimates({ t, of }: { t: Schemas["Table"]; of: Schemas["Result"]["estimates"] }) {
  if (!of) {
    return null;
  }
  return (
    <Text fontSize="sm" mb="2">
      ≈ {plural(of.cells, "cell is an estimate", "cells are estimates")}, which count as{" "}
      {of.are === "missing" ? "missing where a value is required" : "values, as the rulebook says"}.{" "}
      <a href={`/api/v1/tables/${t.id}/bytes?what=marks`} download>
        Which they are
      </a>
      {t.draws_digest && (
        <>
          {" · "}
          <a href={`/api/v1/tables/${t.id}/bytes?what=draws`} download>
            their further draws, as Parquet
          </a>
        </>
      )}
    </Text>
  );
}

/** That a table was judged where it lies, what of that is not exact, and which questions were put to the server. */
function JudgedThere({ of }: { of: Schemas["Result"]["there"] }) {
  if (!of) {
    return null;
  }
  return (
    <Box fontSize="sm" mb="3">
      <Text>
        Judged where it lies, {of.relation} of the database {of.database}, {of.server}. None of its rows were
        taken. {(of.notes ?? []).join(" ")}
      </Text>
      <details>
        <summary>
          {plural(of.statements.length, "question was put", "questions were put")} to the server
        </summary>
        <Questions
          all={of.statements.map((q) => ({
            says: q.says,
            sql: q.sql,
            tells: `${plural(q.rows, "row", "rows")} in ${count(q.milliseconds)} ms`,
          }))}
        />
      </details>
    </Box>
  );
}

function AuditPanel({ t, a, view }: { t: Schemas["Table"]; a: Schemas["AuditShown"]; view: string }) {
  switch (view) {
    case "findings":
      return <FindingsPanel t={t} a={a} />;
    case "column":
      return <ColumnPanel t={t} a={a} />;
    case "groups":
      return <GroupsPanel t={t} a={a} />;
    case "codes":
      return <CodesPanel t={t} a={a} />;
    case "tally":
      return <TallyPanel t={t} a={a} />;
    case "relations":
      return <RelationsPanel t={t} a={a} />;
    case "missing":
      return <MissingPanel t={t} a={a} />;
    case "totals":
      return <TotalsPanel t={t} a={a} />;
    case "compare":
      return <ComparePanel t={t} a={a} />;
    default:
      return <ColumnsPanel t={t} a={a} />;
  }
}
