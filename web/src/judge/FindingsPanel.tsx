import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { auditWaivers, issuesOf } from "../client/queries";
import { PutRight } from "../putright/PutRight";
import { Grid, right, Td, Th } from "../shared/grid";
import { Section, Severity } from "../shared/parts";
import { Empty } from "../shared/states";
import { Term } from "../shared/Term";
import { Value } from "../shared/Value";
import { caughtWord, count, decimal, percent, plural } from "../shared/words";
import { Since } from "./Since";

const order: Record<string, number> = { major: 0, minor: 1, note: 2 };

/** Every broken rule, the gravest first, with the way to its rows and its issue; then the rules that hold. */
export function FindingsPanel({ t, a }: { t: Schemas["Table"]; a: Schemas["AuditShown"] }) {
  const known = useQuery(issuesOf(t.dataset));
  const waived = useQuery(auditWaivers(a.id));
  const r = a.result;
  const findings = [...r.findings].sort((x, y) => order[x.severity] - order[y.severity] || y.rows - x.rows);
  const measures = Object.keys(r.sums);
  const broken = new Set(findings.map((f) => f.rule));
  const unjudged = r.rules.filter((j) => j.unjudged);
  const held = r.rules.filter((j) => !broken.has(j.rule) && !j.unjudged);
  const worst = findings[0];
  return (
    <>
      <HStack justify="space-between" mb="1" flexWrap="wrap">
        <Text>
          {findings.length > 0 &&
            `${plural(findings.length, "rule is", "rules are")} broken and ${plural(held.length, "rule holds", "rules hold")}; the gravest first.`}
        </Text>
        <HStack gap="4" fontSize="sm">
          <a href={`/api/v1/audits/${a.id}/report`} target="_blank" rel="noreferrer">
            Report for the owner of the data
          </a>
          <a href={`/api/v1/audits/${a.id}/findings`} download>
            Findings as CSV
          </a>
        </HStack>
      </HStack>
      {unjudged.length > 0 && (
        <Box role="note" borderLeftWidth="4px" borderColor="ink" pl="2" mb="2">
          <Text fontWeight="600">{plural(unjudged.length, "rule was", "rules were")} not judged.</Text>
          {unjudged.map((j) => (
            <Text key={j.rule} fontSize="sm">
              <chakra.span fontFamily="mono">{j.rule}</chakra.span>: {j.unjudged}.
            </Text>
          ))}
        </Box>
      )}
      {findings.length === 0 ? (
        <Empty>Nothing was found: every rule holds for all {count(r.rows)} rows.</Empty>
      ) : (
        <Grid label="Findings" max="calc(100vh - 290px)">
          <thead>
            <tr>
              <Th minW="320px">what was found</Th>
              <Th>
                <Term of="severity" example={worst && `${worst.rule} is ${worst.severity}.`} />
              </Th>
              <Th>rule</Th>
              <Th>kind of fault</Th>
              <Th {...right}>rows</Th>
              <Th {...right}>
                <Term of="costs" example={worst && `${worst.rule} takes ${percent(worst.cost)} points.`} />
              </Th>
              <Th {...right}>
                <Term
                  of="wins back"
                  example={worst && `${worst.rule} wins ${percent(worst.regained)} points.`}
                />
              </Th>
              {measures.map((m) => (
                <Th
                  key={m}
                  {...right}
                  title={`The sum of ${m} over these rows; over all rows it is ${decimal(r.sums[m])}`}
                >
                  sum of {m}
                </Th>
              ))}
              <Th>issue</Th>
            </tr>
          </thead>
          <tbody>
            {findings.map((f) => {
              const issue = known.data?.items.find((i) => i.rule === f.rule);
              return (
                <tr key={f.rule}>
                  <Td>
                    {f.rows > 0 ? (
                      <Link
                        to="/tables/$id"
                        params={{ id: String(t.id) }}
                        search={{ view: "rows", rule: f.rule }}
                      >
                        {f.found}
                      </Link>
                    ) : (
                      f.found
                    )}{" "}
                    <Closer t={t} f={f} /> <PutRight t={t} finding={f.rule} />
                    {f.texts && f.texts.length > 0 && (
                      <HStack gap="3" fontSize="sm" color="quiet" flexWrap="wrap">
                        {f.texts.slice(0, 5).map((x) => (
                          <span key={x.text}>
                            <Value text={x.text} /> ×{count(x.rows)}
                          </span>
                        ))}
                      </HStack>
                    )}
                    {f.reason && (
                      <Text fontSize="sm" color="quiet">
                        {f.reason}
                      </Text>
                    )}
                    <WaivedOf of={waived.data?.filter((w) => w.waiver.rule === f.rule) ?? []} />
                  </Td>
                  <Td>
                    <Severity of={f.severity} />
                  </Td>
                  <Td fontFamily="mono" fontSize="sm">
                    {f.rule}
                  </Td>
                  <Td color={f.dimension}>{caughtWord[f.dimension as keyof typeof caughtWord]}</Td>
                  <Td {...right}>{count(f.rows)}</Td>
                  <Td {...right}>{percent(f.cost)}</Td>
                  <Td {...right}>{percent(f.regained)}</Td>
                  {measures.map((m) => (
                    <Td key={m} {...right}>
                      {decimal(f.impact[m])}
                    </Td>
                  ))}
                  <Td whiteSpace="nowrap">
                    {issue && (
                      <Link to="/issues/$id" params={{ id: String(issue.id) }}>
                        {issue.id}, {issue.state}
                      </Link>
                    )}
                  </Td>
                </tr>
              );
            })}
          </tbody>
        </Grid>
      )}
      <Since a={a} />
      {r.defect_count > 0 && (
        <Section title={`${plural(r.defect_count, "defect", "defects")} in the bytes`}>
          <Grid label="Defects" max="240px">
            <thead>
              <tr>
                <Th {...right}>line</Th>
                <Th>kind</Th>
                <Th>column</Th>
                <Th>detail</Th>
              </tr>
            </thead>
            <tbody>
              {r.defects.map((d) => (
                <tr key={`${d.line}${d.kind}${d.column}`}>
                  <Td {...right}>{count(d.line)}</Td>
                  <Td>{d.kind.replaceAll("_", " ")}</Td>
                  <Td>{d.column}</Td>
                  <Td>
                    <Value text={d.detail ?? ""} />
                  </Td>
                </tr>
              ))}
            </tbody>
          </Grid>
          {r.defect_count > r.defects.length && (
            <Text fontSize="sm" color="quiet">
              The first {count(r.defects.length)} of {count(r.defect_count)} defects.
            </Text>
          )}
        </Section>
      )}
      {held.length > 0 && (
        <chakra.details mt="4">
          <chakra.summary cursor="pointer" color="accent">
            {plural(held.length, "rule holds", "rules hold")} for every row
          </chakra.summary>
          {held.map((j) => (
            <Text key={j.rule} fontSize="sm">
              <chakra.span fontFamily="mono">{j.rule}</chakra.span>: {j.says}{" "}
              {j.undecided ? `It could not be decided for ${plural(j.undecided, "row", "rows")}. ` : ""}
              {j.tolerated ? `${plural(j.tolerated, "row breaks", "rows break")} it, which is allowed.` : ""}
            </Text>
          ))}
        </chakra.details>
      )}
    </>
  );
}

/** What of a finding is accepted, and how much is beyond that. */
function WaivedOf({ of }: { of: Schemas["InForce"][] }) {
  const covered = of[0]?.covered;
  if (!covered) {
    return null;
  }
  return (
    <Text fontSize="sm" borderLeftWidth="3px" borderColor="accent" pl="2" mt="1">
      {covered.beyond === 0 && !covered.otherwise ? "Waived" : "Waived in part"}
      {covered.rows > 0 && `: ${count(covered.covered)} of ${plural(covered.rows, "row", "rows")}`}
      {covered.beyond > 0 && <b>, {count(covered.beyond)} beyond</b>}.{" "}
      {of.map((w) => (
        <span key={w.waiver.id}>
          {w.waiver.by}, for {w.waiver.covers}: {w.waiver.reason}{" "}
        </span>
      ))}
    </Text>
  );
}

/** Where a finding is looked at more closely than row by row. */
function Closer({ t, f }: { t: Schemas["Table"]; f: Schemas["Finding"] }) {
  const params = { id: String(t.id) };
  if (f.kind === "key") {
    return (
      <Link to="/tables/$id" params={params} search={{ view: "groups", by: f.columns }}>
        <chakra.span fontSize="sm">(side by side)</chakra.span>
      </Link>
    );
  }
  if (f.kind === "codes" || f.kind === "spelling") {
    return (
      <Link to="/tables/$id" params={params} search={{ view: "codes", column: f.columns[0] }}>
        <chakra.span fontSize="sm">(what they mean)</chakra.span>
      </Link>
    );
  }
  return null;
}
