import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { madeFrom, useDraft } from "../client/drafts";
import { useEdits } from "../client/edits";
import { dataset, datasetTables, merges, refresh, useJob } from "../client/queries";
import { AccountingOf } from "../putright/Accounting";
import { Choice, Press, useMay } from "../shared/controls";
import { Editor } from "../shared/editor/Editor";
import { Grid, right, Td, Th } from "../shared/grid";
import { Kept } from "../shared/Kept";
import { Section, TableLink, Title } from "../shared/parts";
import { Empty, Outdated, Progress, Shown, Trouble } from "../shared/states";
import { Value } from "../shared/Value";
import { count, percent, plural, when } from "../shared/words";
import type { Accounting } from "./accounting";
import { type MatchSo, MergeAccounting, NotMet } from "./MergeAccounting";
import { MergeForms } from "./MergeForms";

/** What an address names where a new merge is written: no merge has a space in its name. */
const fresh = "a new merge";

const firstMerge = `merge: my_merge
stack: []
`;

/** The declared merges; one of them with its text and the accounting of its newest table. */
export function MergesView() {
  const all = useQuery(merges);
  return <Shown query={all}>{(page) => <Loaded all={page.items} />}</Shown>;
}

function Loaded({ all }: { all: Schemas["Declaration"][] }) {
  const search = useSearch({ from: "/merges" });
  const navigate = useNavigate();
  const client = useQueryClient();
  const names = [...new Set(all.map((m) => m.name))];
  const chosen = all.find((m) => m.name === (search.merge ?? names[0]));
  const kept = useDraft(`merge ${chosen?.name ?? ""}`, chosen);
  const { source: draft, from, change: setDraft, follow } = kept;
  const [jobId, setJobId] = useState<number>();
  const source = draft ?? chosen?.source ?? firstMerge;
  const { edit, latest, scope } = useEdits("merges", source, setDraft);
  const run = useMutation({
    scope,
    mutationFn: async () => {
      const text = latest.current;
      const saved =
        text === chosen?.source
          ? chosen
          : await take(api.POST("/merges", { params: madeFrom(from), body: { source: text } }));
      setDraft(undefined);
      await refresh(client, "plan", "table");
      const job = await take(
        api.POST("/merges/{name}/runs", { params: { path: { name: saved.name } }, body: {} }),
      );
      setJobId(job.id);
      setLooked(undefined);
      navigate({ to: "/merges", search: { ...search, merge: saved.name } });
    },
  });
  const job = useJob(jobId);
  // A preview is of the text that it was asked for.
  const [looked, setLooked] = useState<{ job: number; source: string }>();
  const look = useMutation({
    scope,
    mutationFn: async () => {
      const text = latest.current;
      const asked = await take(api.POST("/merges/previews", { body: { source: text } }));
      setLooked({ job: asked.id, source: text });
    },
  });
  const preview = useJob(looked?.job);
  return (
    <>
      <Title>Merges</Title>
      <Box
        display="grid"
        gridTemplateColumns={{ base: "minmax(0, 1fr)", lg: "minmax(300px, 420px) minmax(0, 1fr)" }}
        gap="6"
      >
        <Box>
          <HStack mb="2" gap="2" flexWrap="wrap">
            <Choice
              aria-label="Merge"
              value={chosen?.name ?? fresh}
              onChange={(e) => {
                navigate({ to: "/merges", search: { ...search, merge: e.target.value } });
              }}
            >
              {names.map((n) => (
                <option key={n}>{n}</option>
              ))}
              <option value={fresh}>a new merge</option>
            </Choice>
            <Choice
              aria-label="How it is shown"
              value={search.as ?? ""}
              onChange={(e) =>
                navigate({
                  to: "/merges",
                  search: { ...search, as: e.target.value === "text" ? "text" : undefined },
                })
              }
            >
              <option value="">as forms</option>
              <option value="text">as text</option>
            </Choice>
            <Text fontSize="sm" color="quiet">
              {chosen
                ? `version ${chosen.version} by ${chosen.author}, ${when(chosen.created_at)}`
                : "not saved yet"}
            </Text>
          </HStack>
          <Kept draft={kept} />
          {search.as === "text" ? (
            <Editor
              label="Merge"
              kind="merges"
              height="300px"
              value={source}
              onChange={setDraft}
              error={run.error}
            />
          ) : (
            <>
              <MergeForms source={source} change={edit.mutate} />
              <Trouble error={edit.error} />
              <Trouble error={run.error} />
            </>
          )}
          <Outdated
            error={run.error}
            follow={() =>
              client.fetchQuery({ ...merges, staleTime: 0 }).then((all) => {
                follow(all?.items.find((m) => m.name === chosen?.name)?.version ?? 0);
                run.reset();
              })
            }
          />
          <HStack gap="3" mt="2" flexWrap="wrap">
            <Press needs="work" plain onClick={() => look.mutate()} loading={look.isPending}>
              Show what it would do
            </Press>
            <Press
              needs="work"
              onClick={() => run.mutate()}
              loading={run.isPending || (job !== undefined && !job.ended_at)}
            >
              {draft === undefined ? "Run it on the newest cleaned tables" : "Save and run it"}
            </Press>
          </HStack>
          <Trouble error={look.error} />
          {chosen && <KeptUp name={chosen.name} />}
          {job && !job.ended_at && <Progress job={job} />}
          {job?.state === "failed" && <Trouble error={new Error(job.error)} />}
        </Box>
        <Box minW="0">
          {looked?.source === source && preview ? (
            <Looked
              job={preview}
              matchSo={(join, pairs) =>
                edit.mutate(
                  { step: join, field: { name: "match", pairs } },
                  { onSuccess: () => look.mutate() },
                )
              }
            />
          ) : (
            chosen && <Newest name={chosen.name} />
          )}
        </Box>
      </Box>
    </>
  );
}

/** Whether the merge runs again by itself. */
function KeptUp({ name }: { name: string }) {
  const client = useQueryClient();
  const { may, why } = useMay("work");
  const known = useQuery(dataset(name));
  const keep = useMutation({
    mutationFn: (kept: boolean) =>
      take(api.PUT("/merges/{name}/kept", { params: { path: { name } }, body: { kept } })),
    onSuccess: () => refresh(client, "plan", "table").then(() => client.invalidateQueries(dataset(name))),
  });
  return (
    <>
      <chakra.label display="flex" gap="2" mt="2" fontSize="sm" title={why}>
        <input
          type="checkbox"
          checked={known.data?.kept_merged ?? false}
          disabled={!may || known.data === undefined || keep.isPending}
          onChange={(e) => keep.mutate(e.target.checked)}
        />
        Run it again by itself once a table that it takes was made and did not fall short
      </chakra.label>
      <Trouble error={keep.error} />
    </>
  );
}

/** What a merge would do. */
function Looked({ job, matchSo }: { job: Schemas["Job"]; matchSo: MatchSo }) {
  if (job.state === "failed") {
    return <Trouble error={new Error(job.error)} />;
  }
  // The result of a job that has just ended comes after the word of its end.
  if (!job.ended_at || !job.result) {
    return <Progress job={job} />;
  }
  const { accounting, audit, refused, sample } = job.result as {
    accounting: Accounting;
    audit?: Schemas["Result"];
    refused?: string;
    sample: MergedSample;
  };
  return (
    <>
      {refused && (
        <Box role="alert" borderLeftWidth="4px" borderColor="validity" ps="2" mb="2">
          <Text fontWeight="600">The merge would be refused: {refused}.</Text>
          {accounting.joins.flatMap((j, at) =>
            (j.why ?? []).map((w) => (
              <NotMet
                key={`${j.with} ${w.levelling}`}
                w={w}
                with={j.with}
                so={(pairs) => matchSo(at + 1, pairs)}
              />
            )),
          )}
          <Text fontSize="sm">What follows is what it would do were all such rows kept.</Text>
        </Box>
      )}
      <Text role="status">
        Nothing has been done yet. The merged table would have {plural(accounting.rows, "row", "rows")}
        {audit
          ? `, and by the rulebook of the merged dataset a score of ${percent(audit.score)}: it would ${audit.passed ? "pass" : "fall short"}.`
          : "; the merged dataset has no rulebook yet, which its table would be judged by."}
      </Text>
      {audit && audit.findings.length > 0 && (
        <Section title="What would be found in it">
          <Grid label="What would be found">
            <thead>
              <tr>
                <Th>rule</Th>
                <Th {...right}>rows</Th>
                <Th>what was found</Th>
              </tr>
            </thead>
            <tbody>
              {audit.findings.map((f) => (
                <tr key={f.rule}>
                  <Td fontFamily="mono" fontSize="sm">
                    {f.rule}
                  </Td>
                  <Td {...right}>{count(f.rows)}</Td>
                  <Td>{f.found}</Td>
                </tr>
              ))}
            </tbody>
          </Grid>
        </Section>
      )}
      <Section title="Its accounting">
        <MergeAccounting a={accounting} matchSo={refused ? undefined : matchSo} />
      </Section>
      <Sample s={sample} />
    </>
  );
}

/** The first rows of a merge that is looked at; columns that joins add stand first. */
type MergedSample = {
  columns: string[];
  added: string[];
  rows: string[][];
  from: { dataset: string; table?: number; row: number; how: string }[][];
};

function Sample({ s }: { s: MergedSample }) {
  if (s.rows.length === 0) {
    return null;
  }
  return (
    <Section title="Its first rows, and what each is made of">
      <Grid label="The first rows" max="420px">
        <thead>
          <tr>
            <Th>made of</Th>
            {s.columns.map((c) => (
              <Th key={c}>
                {s.added.includes(c) && (
                  <chakra.span title="A join adds this column" aria-label="added">
                    +{" "}
                  </chakra.span>
                )}
                {c}
              </Th>
            ))}
          </tr>
        </thead>
        <tbody>
          {s.rows.map((row, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a row is known by its place
            <tr key={i}>
              <Td whiteSpace="nowrap" fontSize="sm">
                {s.from[i].map((f) => (
                  <Box key={`${f.dataset} ${f.table} ${f.row}`}>
                    row {count(f.row)} of {f.dataset}
                    {f.table != null && `, table ${f.table}`}
                  </Box>
                ))}
              </Td>
              {row.map((text, c) => (
                <Td key={s.columns[c]}>
                  <Value text={text} />
                </Td>
              ))}
            </tr>
          ))}
        </tbody>
      </Grid>
    </Section>
  );
}

function Newest({ name }: { name: string }) {
  const tables = useQuery(datasetTables(name));
  return (
    <Shown query={tables}>
      {(page) => {
        const newest = page.items.find((t) => t.origin === "merged");
        if (!newest) {
          return (
            <Empty>The merge has not been run yet. It takes the newest cleaned table of each dataset.</Empty>
          );
        }
        return (
          <>
            <Text>
              <TableLink id={newest.id}>Table {newest.id}</TableLink>, {count(newest.rows)} rows, made by{" "}
              {newest.created_by} {when(newest.created_at)}.{" "}
              <Link to="/tables/$id" params={{ id: String(newest.id) }} search={{ view: "certificate" }}>
                To its certificate
              </Link>
            </Text>
            <Section title="Its accounting">
              <AccountingOf t={newest} />
            </Section>
          </>
        );
      }}
    </Shown>
  );
}
