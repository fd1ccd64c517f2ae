import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { api, type Schemas, take } from "../client/client";
import { madeFrom, useDraft } from "../client/drafts";
import { fixPlans, refresh, table, useJob } from "../client/queries";
import { Editor } from "../shared/editor/Editor";
import { Kept } from "../shared/Kept";
import { PathBar } from "../shared/PathBar";
import {
  Choice,
  Grid,
  Outdated,
  Press,
  Progress,
  right,
  Section,
  Shown,
  Td,
  Th,
  Title,
  Trouble,
} from "../shared/parts";
import { Value } from "../shared/Value";
import { count, percent, plural } from "../shared/words";
import { type Ledger, LedgerGrid } from "./Accounting";

type Change = {
  step: number;
  row: number;
  line: number;
  column?: string;
  old: string;
  new: string;
  gone?: Record<string, string>;
  kept_by?: number;
  reason: string;
};

type Preview = {
  ledger: Ledger;
  change_count: number;
  changes: Change[];
  before: Schemas["Result"];
  after: Schemas["Result"];
};

const firstPlan = (dataset: string) => `fix_plan: ${dataset}_clean
dataset: ${dataset}
title: What was agreed
steps:
  - do: remove_equal_rows
    reason: Rows that were exported twice.
`;

/** A fix plan on one delivery: its steps, and what they would do, side by side, before anything is done. */
export function FixView() {
  const id = Number(useParams({ from: "/tables/$id/fix" }).id);
  const found = useQuery(table(id));
  return <Shown query={found}>{(t) => <Loaded t={t} />}</Shown>;
}

function Loaded({ t }: { t: Schemas["Table"] }) {
  const plans = useQuery(fixPlans(t.dataset));
  return <Shown query={plans}>{(page) => <Plan t={t} plans={page.items} />}</Shown>;
}

function Plan({ t, plans }: { t: Schemas["Table"]; plans: Schemas["Declaration"][] }) {
  const search = useSearch({ from: "/tables/$id/fix" });
  const navigate = useNavigate();
  const client = useQueryClient();
  const names = [...new Set(plans.map((p) => p.name))];
  const chosen = plans.find((p) => p.name === (search.plan ?? names[0])); // the newest version comes first
  const kept = useDraft(`fix plan ${t.dataset} ${chosen?.name ?? ""}`, chosen);
  const { source: draft, from, change: setDraft, follow } = kept;
  const source = draft ?? chosen?.source ?? firstPlan(t.dataset);
  const go = (change: { plan?: string; job?: number }) =>
    navigate({ to: "/tables/$id/fix", params: { id: String(t.id) }, search: { ...search, ...change } });

  const save = async () => {
    if (draft === undefined && chosen) {
      return chosen;
    }
    const saved = await take(api.POST("/fix-plans", { params: madeFrom(from), body: { source } }));
    setDraft(undefined);
    await refresh(client, "plan");
    return saved;
  };
  const start = useMutation({
    mutationFn: async (what: "preview" | "apply") => {
      const plan = await save();
      const call = { params: { path: { id: t.id } }, body: { fix_plan: plan.name, version: plan.version } };
      const job = await take(
        what === "preview" ? api.POST("/tables/{id}/previews", call) : api.POST("/tables/{id}/fixes", call),
      );
      go({ plan: plan.name, job: job.id });
    },
  });
  const job = useJob(search.job);
  return (
    <>
      <Title>
        Put right:{" "}
        <Link to="/tables/$id" params={{ id: String(t.id) }} search={{}}>
          {t.file_name}
        </Link>
      </Title>
      <PathBar id={t.id} dataset={t.dataset} />
      <Box
        display="grid"
        gridTemplateColumns={{ base: "minmax(0, 1fr)", lg: "minmax(300px, 420px) minmax(0, 1fr)" }}
        gap="5"
      >
        <Box>
          <HStack mb="2" gap="2">
            <Choice
              aria-label="Fix plan"
              value={chosen?.name ?? ""}
              onChange={(e) => {
                setDraft(undefined);
                go({ plan: e.target.value || undefined, job: undefined });
              }}
            >
              {names.length === 0 && <option value="">a new plan</option>}
              {names.map((n) => (
                <option key={n}>{n}</option>
              ))}
            </Choice>
            <Text fontSize="sm" color="quiet">
              {draft !== undefined
                ? "changed, saved with the next press"
                : chosen
                  ? `version ${chosen.version} by ${chosen.author}`
                  : "not saved yet"}
            </Text>
          </HStack>
          <Kept draft={kept} />
          <Editor
            label="Steps of the fix plan"
            kind="fix-plans"
            height="400px"
            value={source}
            onChange={setDraft}
            error={start.error}
          />
          <Outdated
            error={start.error}
            follow={() =>
              client.fetchQuery({ ...fixPlans(t.dataset), staleTime: 0 }).then((all) => {
                follow(all?.items.find((p) => p.name === chosen?.name)?.version ?? 0);
                start.reset();
              })
            }
          />
          <HStack mt="2" gap="3">
            <Press needs="work" onClick={() => start.mutate("preview")} loading={start.isPending}>
              Show what it would do
            </Press>
            <Press needs="work" plain onClick={() => start.mutate("apply")} disabled={start.isPending}>
              Apply it
            </Press>
          </HStack>
          <Text fontSize="sm" color="quiet" mt="1">
            The delivery itself never changes; applying makes a cleaned table beside it.
          </Text>
        </Box>
        <Box minW="0">{job && <Outcome job={job} />}</Box>
      </Box>
    </>
  );
}

function Outcome({ job }: { job: Schemas["Job"] }) {
  if (job.state === "failed") {
    return <Trouble error={new Error(job.error)} />;
  }
  if (!job.ended_at) {
    return <Progress job={job} />;
  }
  if (job.result_table) {
    return (
      <Text role="status">
        The plan is applied:{" "}
        <Link to="/tables/$id" params={{ id: String(job.result_table) }} search={{ view: "accounting" }}>
          table {job.result_table}
        </Link>{" "}
        is the cleaned table, with its ledger and change log.
      </Text>
    );
  }
  return job.result ? <Previewed p={job.result as Preview} /> : null;
}

function Previewed({ p }: { p: Preview }) {
  const then = new Map(p.after.findings.map((f) => [f.rule, f.rows]));
  const now = new Map(p.before.findings.map((f) => [f.rule, f.rows]));
  const rules = [...new Set([...now.keys(), ...then.keys()])];
  return (
    <>
      <Text role="status">
        Nothing has been done yet. The plan would make {plural(p.change_count, "change", "changes")}; the
        score would go from <chakra.span fontWeight="650">{percent(p.before.score)}</chakra.span> to{" "}
        <chakra.span fontWeight="650">{percent(p.after.score)}</chakra.span>,{" "}
        {p.after.passed == null
          ? "without a verdict, since nothing is declared"
          : `and the table would ${p.after.passed ? "pass" : "still fall short"}`}
        .
      </Text>
      <Section title="Old and new, side by side">
        <Grid label="Changes, old and new" max="290px">
          <thead>
            <tr>
              <Th {...right}>row</Th>
              <Th {...right}>step</Th>
              <Th>column</Th>
              <Th>old</Th>
              <Th>new</Th>
            </tr>
          </thead>
          <tbody>
            {p.changes.map((c) => (
              <tr key={`${c.row} ${c.step} ${c.column}`}>
                <Td {...right}>{count(c.row)}</Td>
                <Td {...right}>{c.step}</Td>
                <Td>{c.column ?? "whole row"}</Td>
                <Td maxW="260px" overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap">
                  {c.gone ? (
                    <Value text={Object.values(c.gone).filter(Boolean).join(" | ")} />
                  ) : (
                    <Value text={c.old} />
                  )}
                </Td>
                <Td>
                  {c.gone ? (
                    c.kept_by ? (
                      `leaves the table; row ${count(c.kept_by)} stays`
                    ) : (
                      "leaves the table"
                    )
                  ) : (
                    <Value text={c.new} />
                  )}
                </Td>
              </tr>
            ))}
          </tbody>
        </Grid>
        {p.change_count > p.changes.length && (
          <Text fontSize="sm" color="quiet">
            The first {count(p.changes.length)} of {count(p.change_count)} changes.
          </Text>
        )}
      </Section>
      <Section title="Rows and sums">
        <LedgerGrid ledger={p.ledger} />
      </Section>
      <Section title="Rules and keys, now and then">
        <Grid label="Findings now and then">
          <thead>
            <tr>
              <Th>rule</Th>
              <Th {...right}>rows now</Th>
              <Th {...right}>rows then</Th>
            </tr>
          </thead>
          <tbody>
            {rules.map((r) => (
              <tr key={r}>
                <Td fontFamily="mono" fontSize="sm">
                  {r}
                </Td>
                <Td {...right}>{count(now.get(r) ?? 0)}</Td>
                <Td {...right}>{count(then.get(r) ?? 0)}</Td>
              </tr>
            ))}
          </tbody>
        </Grid>
      </Section>
      <Section title="Scores of the columns, now and then">
        <Grid label="Scores now and then">
          <tbody>
            {p.before.columns.map((c, i) => (
              <tr key={c.name}>
                <Td>{c.name}</Td>
                <Td {...right}>{percent(c.score)}</Td>
                <Td {...right}>{percent(p.after.columns[i].score)}</Td>
              </tr>
            ))}
          </tbody>
        </Grid>
      </Section>
    </>
  );
}
