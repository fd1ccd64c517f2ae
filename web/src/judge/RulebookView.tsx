import { Box, chakra, HStack, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { madeFrom, useDraft } from "../client/drafts";
import { datasetTables, differences, refresh, rulebook, useJob, versions } from "../client/queries";
import { Kept } from "../shared/Kept";
import {
  Choice,
  Empty,
  Grid,
  Outdated,
  Press,
  Progress,
  right,
  Section,
  Severity,
  Shown,
  TableLink,
  Td,
  Th,
  Title,
  Trouble,
  Waiting,
} from "../shared/parts";
import { count, percent, when } from "../shared/words";
import { RulebookEditor } from "./RulebookEditor";
import { RulebookForms } from "./RulebookForms";

const start = (name: string) => `dataset: ${name}
columns:
  - {name: id, required: true}
keys:
  - {id: one_row, columns: [id]}
pass_mark: 95
`;

/** The rulebook of a dataset: as text and as forms, both of one text, with a trial beside it. */
export function RulebookView() {
  const { name } = useParams({ from: "/datasets/$name/rulebook" });
  const search = useSearch({ from: "/datasets/$name/rulebook" });
  const navigate = useNavigate();
  const client = useQueryClient();
  const book = useQuery(rulebook(name));
  const kept = useDraft(`rulebook ${name}`, book.data);
  const { source: draft, from, change: setDraft, follow } = kept;
  const source = draft ?? book.data?.source ?? start(name);
  const save = useMutation({
    mutationFn: () => take(api.POST("/rulebooks", { params: madeFrom(from), body: { source } })),
    onSuccess: async () => {
      await refresh(client, "rulebook");
      setDraft(undefined);
    },
  });
  const view = search.view === "forms" || search.view === "versions" ? search.view : "text";
  const go = (to: { view?: string; section?: string; item?: string; from?: number }) =>
    navigate({ to: "/datasets/$name/rulebook", params: { name }, search: to, replace: true });
  const changed = draft !== undefined && draft !== book.data?.source;
  return (
    <>
      <Title
        aside={
          <Text fontSize="sm" color="quiet">
            {book.data
              ? `version ${book.data.version} by ${book.data.author}, ${when(book.data.created_at)}`
              : "not declared yet"}
            {changed && ", changed here and not saved"}
          </Text>
        }
      >
        <Link to="/datasets/$name" params={{ name }}>
          {name}
        </Link>{" "}
        / rulebook
      </Title>
      <HStack justify="space-between" mb="2" flexWrap="wrap" borderBottomWidth="1px" borderColor="line">
        <HStack as="nav" aria-label="Views of the rulebook" gap="5">
          {["text", "forms", "versions"].map((v) => (
            <chakra.button
              key={v}
              type="button"
              color="accent"
              aria-current={v === view ? "page" : undefined}
              fontWeight={v === view ? "700" : "400"}
              borderBottomWidth={v === view ? "2px" : "0"}
              onClick={() => go({ view: v === "text" ? undefined : v })}
            >
              {v}
            </chakra.button>
          ))}
        </HStack>
        <HStack gap="2" pb="1">
          <Link to="/datasets/$name/proposal" params={{ name }}>
            See what could hold
          </Link>
          {changed && (
            <Press plain onClick={() => setDraft(undefined)}>
              Take the changes back
            </Press>
          )}
          <Press needs="work" onClick={() => save.mutate()} loading={save.isPending} disabled={!changed}>
            Save as the next version
          </Press>
        </HStack>
      </HStack>
      <Kept draft={kept} />
      <Outdated
        error={save.error}
        follow={() =>
          book.refetch().then((b) => {
            follow(b.data?.version ?? 0);
            save.reset();
          })
        }
      />
      {book.isLoading ? (
        <Waiting />
      ) : view === "versions" ? (
        <Versions name={name} from={search.from} choose={(from) => go({ view: "versions", from })} />
      ) : view === "forms" ? (
        <>
          <Trouble error={save.error} />
          <RulebookForms
            source={source}
            onChange={setDraft}
            section={search.section}
            item={search.item}
            choose={(section, item) => go({ view: "forms", section, item })}
          />
        </>
      ) : (
        <Stack direction={{ base: "column", lg: "row" }} align={{ base: "stretch", lg: "start" }} gap="5">
          <Box flex="1" minW="0">
            <RulebookEditor value={source} onChange={setDraft} error={save.error} />
          </Box>
          <Box w={{ lg: "400px" }} flexShrink="0">
            <TrialPanel name={name} source={source} />
          </Box>
        </Stack>
      )}
    </>
  );
}

/** What the rulebook as it stands here would find in a delivery; nothing is saved. */
function TrialPanel({ name, source }: { name: string; source: string }) {
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

function Versions(props: { name: string; from?: number; choose: (from?: number) => void }) {
  const all = useQuery(versions(props.name));
  return (
    <Shown query={all}>
      {(page) => {
        const newest = page.items[0]?.version ?? 0;
        if (newest === 0) {
          return <Empty>Nothing is saved yet. Save the first version.</Empty>;
        }
        return (
          <>
            <Grid label="Versions" max="260px">
              <thead>
                <tr>
                  <Th {...right}>version</Th>
                  <Th>by</Th>
                  <Th>saved</Th>
                  <Th>SHA-256</Th>
                  <Th>compare</Th>
                </tr>
              </thead>
              <tbody>
                {page.items.map((v) => (
                  <tr key={v.id}>
                    <Td {...right}>{v.version}</Td>
                    <Td>{v.author}</Td>
                    <Td>{when(v.created_at)}</Td>
                    <Td fontFamily="mono" fontSize="sm">
                      {v.digest.slice(0, 16)}
                    </Td>
                    <Td>
                      {v.version < newest && (
                        <chakra.button
                          type="button"
                          color="accent"
                          textDecoration="underline"
                          onClick={() => props.choose(v.version)}
                        >
                          with the newest
                        </chakra.button>
                      )}
                    </Td>
                  </tr>
                ))}
              </tbody>
            </Grid>
            {newest > 1 && <Differences name={props.name} from={props.from ?? newest - 1} to={newest} />}
          </>
        );
      }}
    </Shown>
  );
}

function Differences({ name, from, to }: { name: string; from: number; to: number }) {
  const found = useQuery(differences(name, from, to));
  return (
    <Section title={`What changed from version ${from} to version ${to}`}>
      <Shown query={found}>
        {(all) =>
          all.length === 0 ? (
            <Empty>They ask the same; only comments or order differ.</Empty>
          ) : (
            <chakra.ul pl="5" listStyleType="disc">
              {all.map((d) => (
                <li key={d.says}>{d.says}</li>
              ))}
            </chakra.ul>
          )
        }
      </Shown>
    </Section>
  );
}
