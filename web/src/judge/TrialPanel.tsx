import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { datasetTables, useJob } from "../client/queries";
import { Choice, Press } from "../shared/controls";
import { Grid, right, Td, Th } from "../shared/grid";
import { Severity, TableLink } from "../shared/parts";
import { Empty, Progress, Trouble } from "../shared/states";
import { count, percent, when } from "../shared/words";

/** What the rulebook as it stands here would find in a delivery; nothing is saved. */
export function TrialPanel({ name, source }: { name: string; source: string }) {
  const tables = useQuery(datasetTables(name));
  const deliveries = tables.data?.items.filter((t) => t.origin === "delivery") ?? [];
  const [chosen, setChosen] = useState<number>();
  const id = chosen ?? deliveries[0]?.id;
  const run = useMutation({
    mutationFn: () =>
      take(api.POST("/tables/{id}/trials", { params: { path: { id: id ?? 0 } }, body: { source } })),
  });
  const job = useJob(run.data?.id);
  const [tried, setTried] = useState<{ result: Schemas["Result"]; table: number }>();
  useEffect(() => {
    if (job?.state === "done" && job.table_id) {
      const table = job.table_id;
      take(api.GET("/jobs/{id}", { params: { path: { id: job.id } } })).then(
        (whole) => setTried({ result: whole.result as Schemas["Result"], table }),
        () => undefined, // the job was there a moment ago; trying again asks anew
      );
    }
  }, [job]);
  const known = deliveries.find((t) => t.id === tried?.table);
  if (tables.data && deliveries.length === 0) {
    return (
      <Empty>
        Nothing has been delivered yet, so there is nothing to try it on.{" "}
        <Link to="/datasets/$name" params={{ name }}>
          Take in the first delivery
        </Link>
        .
      </Empty>
    );
  }
  return (
    <Box as="section" aria-label="Trial">
      <HStack gap="2" mb="1">
        <Choice
          aria-label="Try it on"
          value={id ?? ""}
          onChange={(e) => setChosen(Number(e.target.value))}
          maxW="250px"
        >
          {deliveries.map((t) => (
            <option key={t.id} value={t.id}>
              {t.file_name}, {when(t.created_at)}
            </option>
          ))}
        </Choice>
        <Press
          needs="work"
          plain
          onClick={() => run.mutate()}
          loading={run.isPending}
          disabled={id === undefined}
        >
          Try it
        </Press>
      </HStack>
      <Trouble error={run.error} />
      {job && !job.ended_at && <Progress job={job} />}
      {job?.state === "failed" && <Trouble error={new Error(job.error)} />}
      {tried ? (
        <Tried result={tried.result} now={known} />
      ) : (
        !job && (
          <Text color="quiet" fontSize="sm">
            A trial says what this text would find in a delivery. Nothing is saved.
          </Text>
        )
      )}
    </Box>
  );
}

function Tried({ result, now }: { result: Schemas["Result"]; now?: Schemas["Table"] }) {
  const weight: Record<string, number> = { major: 0, minor: 1, note: 2 };
  const findings = [...result.findings].sort(
    (a, b) => weight[a.severity] - weight[b.severity] || b.rows - a.rows,
  );
  return (
    <>
      <Text role="status">
        Score <b>{percent(result.score)}</b>
        {now?.score != null && `, by the last audit ${percent(now.score)}`}; it would{" "}
        {result.passed == null ? "give no verdict" : result.passed ? "pass" : "fall short"}.{" "}
        {now && <TableLink id={now.id}>Show the delivery</TableLink>}
      </Text>
      {findings.length === 0 ? (
        <Empty>It finds nothing.</Empty>
      ) : (
        <Grid label="What it would find" max="calc(100vh - 250px)">
          <thead>
            <tr>
              <Th {...right}>rows</Th>
              <Th>rule</Th>
              <Th>severity</Th>
            </tr>
          </thead>
          <tbody>
            {findings.map((f) => (
              <tr key={f.rule}>
                <Td {...right}>{count(f.rows)}</Td>
                <Td fontSize="sm" title={f.found}>
                  <chakra.span fontFamily="mono">{f.rule}</chakra.span>
                  <Text color="quiet">{f.found}</Text>
                </Td>
                <Td>
                  <Severity of={f.severity} />
                </Td>
              </tr>
            ))}
          </tbody>
        </Grid>
      )}
    </>
  );
}
