import { chakra, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../api/client";
import { issues } from "../api/queries";
import { caughtWord, count, decimal, plural } from "../words";
import { Empty, Grid, right, Section, Severity, Td, Th, Value } from "./parts";

const order: Record<string, number> = { stop: 0, warn: 1, note: 2 };

/** Every broken rule, the gravest first, with the way to its rows and its issue; then the rules that hold. */
export function FindingsPanel({ t, a }: { t: Schemas["Table"]; a: Schemas["AuditShown"] }) {
  const known = useQuery(issues({ dataset: t.dataset }));
  const r = a.result;
  const findings = [...r.findings].sort((x, y) => order[x.severity] - order[y.severity] || y.rows - x.rows);
  const measures = Object.keys(r.sums);
  const held = r.rules.filter((j) => j.rows === 0);
  return (
    <>
      {findings.length > 0 && (
        <Text mb="1">
          {plural(findings.length, "rule is", "rules are")} broken and{" "}
          {plural(held.length, "rule holds", "rules hold")}; the gravest first.
        </Text>
      )}
      {findings.length === 0 ? (
        <Empty>Nothing was found: every rule holds for all {count(r.rows)} rows.</Empty>
      ) : (
        <Grid label="Findings" max="calc(100vh - 290px)">
          <thead>
            <tr>
              <Th>what was found</Th>
              <Th>severity</Th>
              <Th>rule</Th>
              <Th>kind of fault</Th>
              <Th {...right}>rows</Th>
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
                    <Link
                      to="/tables/$id"
                      params={{ id: String(t.id) }}
                      search={{ view: "rows", rule: f.rule }}
                    >
                      {f.found}
                    </Link>
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
                  </Td>
                  <Td>
                    <Severity of={f.severity} />
                  </Td>
                  <Td fontFamily="mono" fontSize="sm">
                    {f.rule}
                  </Td>
                  <Td color={f.dimension}>{caughtWord[f.dimension as keyof typeof caughtWord]}</Td>
                  <Td {...right}>{count(f.rows)}</Td>
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
              {r.defects.slice(0, 200).map((d) => (
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
              {j.unjudged && `Not judged: ${j.unjudged}.`}
            </Text>
          ))}
        </chakra.details>
      )}
    </>
  );
}
