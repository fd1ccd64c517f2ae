import { Box, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { api, type Schemas, take } from "../client/client";
import { madeFrom, useDraft } from "../client/drafts";
import { fixPlans, refresh, table, useJob } from "../client/queries";
import { Choice, Press } from "../shared/controls";
import { Editor } from "../shared/editor/Editor";
import { Kept } from "../shared/Kept";
import { PathBar } from "../shared/PathBar";
import { Title } from "../shared/parts";
import { Outdated, Shown } from "../shared/states";
import { Outcome } from "./Outcome";

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
      const params = { path: { id: t.id } };
      if (what === "preview") {
        const body =
          draft === undefined && chosen ? { fix_plan: chosen.name, version: chosen.version } : { source };
        const job = await take(api.POST("/tables/{id}/previews", { params, body }));
        return go({ job: job.id });
      }
      const plan = await save();
      const body = { fix_plan: plan.name, version: plan.version };
      const job = await take(api.POST("/tables/{id}/fixes", { params, body }));
      return go({ plan: plan.name, job: job.id });
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
                ? "changed, and not saved; applying it saves it"
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
