import { Box, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { useEffect, useRef } from "react";
import { api, type Schemas, take } from "../client/client";
import { madeFrom, useDraft } from "../client/drafts";
import { useEdits } from "../client/edits";
import {
  allFixPlans,
  checkedText,
  datasets,
  fixPlans,
  planOutlined,
  refresh,
  table,
  useJob,
} from "../client/queries";
import { Choice, Press } from "../shared/controls";
import { Editor } from "../shared/editor/Editor";
import { Kept } from "../shared/Kept";
import { PathBar } from "../shared/PathBar";
import { Title } from "../shared/parts";
import { Outdated, Shown, Trouble } from "../shared/states";
import type { Preview } from "./ledger";
import { Outcome } from "./Outcome";
import { Proposed } from "./Proposed";
import { Standing } from "./Standing";
import { StepList } from "./StepList";
import { Weighed, WeighIt } from "./Weigh";

type Change = Schemas["StepChange"];

/** A name for a new plan that none has yet. */
function freshName(dataset: string, names: string[]): string {
  for (let n = 1; ; n++) {
    const name = `${dataset}_clean${n === 1 ? "" : `_${n}`}`;
    if (!names.includes(name)) {
      return name;
    }
  }
}

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
  const named = search.plan ?? names[0] ?? "";
  const chosen = plans.find((p) => p.name === named); // the newest version comes first
  const kept = useDraft(`fix plan ${t.dataset} ${named}`, chosen);
  const { source: draft, from, change: setDraft, follow } = kept;
  const source =
    draft ?? chosen?.source ?? `fix_plan: ${freshName(t.dataset, names)}\ndataset: ${t.dataset}\nsteps: []\n`;
  const go = (change: Partial<typeof search>) =>
    navigate({ to: "/tables/$id/fix", params: { id: String(t.id) }, search: { ...search, ...change } });

  const { edit, latest, scope } = useEdits("fix-plans", source, setDraft);
  usePut(search.put, edit.mutateAsync, (step) => go({ put: undefined, step }));
  const start = useMutation({
    // After the edits that are on their way: a field that was just left belongs to what is shown and done.
    scope,
    mutationFn: async (what: "preview" | "apply") => {
      const params = { path: { id: t.id } };
      const text = latest.current;
      const saved = text === chosen?.source ? chosen : undefined;
      if (what === "preview") {
        const body = saved ? { fix_plan: saved.name, version: saved.version } : { source: text };
        const job = await take(api.POST("/tables/{id}/previews", { params, body }));
        previewed.current = { job: job.id, source: text };
        return go({ job: job.id });
      }
      const plan =
        saved ?? (await take(api.POST("/fix-plans", { params: madeFrom(from), body: { source: text } })));
      setDraft(undefined);
      await refresh(client, "plan");
      // Whoever has the preview of this very text before them has looked at what it does.
      const looked =
        preview !== undefined && previewed.current?.job === search.job && previewed.current?.source === text;
      const body = { fix_plan: plan.name, version: plan.version, looked };
      const job = await take(api.POST("/tables/{id}/fixes", { params, body }));
      return go({ plan: plan.name, job: job.id });
    },
  });
  // A preview is of the text that it was asked for; once that changes, its numbers are not those of the steps.
  const previewed = useRef<{ job: number; source: string }>(undefined);
  const job = useJob(search.job);
  const of = previewed.current;
  const stale = of !== undefined && of.job === search.job && of.source !== source;
  const preview = job?.result && !job.result_table ? (job.result as Preview) : undefined;
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
        gridTemplateColumns={{ base: "minmax(0, 1fr)", lg: "minmax(320px, 460px) minmax(0, 1fr)" }}
        gap="5"
      >
        <Box minW="0">
          <HStack mb="2" gap="2" flexWrap="wrap">
            <Choice
              aria-label="Fix plan"
              value={named}
              onChange={(e) => go({ plan: e.target.value, job: undefined, step: undefined })}
            >
              {names.map((n) => (
                <option key={n}>{n}</option>
              ))}
              <option value="">a new plan</option>
            </Choice>
            <Choice
              aria-label="How it is shown"
              value={search.as ?? ""}
              onChange={(e) => go({ as: e.target.value === "text" ? "text" : undefined })}
            >
              <option value="">as steps</option>
              <option value="text">as text</option>
            </Choice>
            <Text fontSize="sm" color="quiet">
              {draft !== undefined
                ? "changed, and not saved; applying it saves it"
                : chosen
                  ? `version ${chosen.version} by ${chosen.author}`
                  : "not saved yet"}
            </Text>
          </HStack>
          {chosen?.earlier && draft === undefined && (
            <Text fontSize="sm" mb="2">
              This version was saved when every cleaned table was put in standard form. It still is, as its
              last step; a version that you save now says so itself, by a step standard form.
            </Text>
          )}
          <Kept draft={kept} />
          {!chosen && <DraftIt t={t} name={freshName(t.dataset, names)} take={setDraft} />}
          <Trouble error={edit.error} />
          {search.as === "text" ? (
            <Editor
              label="Steps of the fix plan"
              kind="fix-plans"
              height="400px"
              value={source}
              onChange={setDraft}
              error={start.error}
            />
          ) : (
            <Steps
              t={t}
              source={source}
              did={stale ? undefined : preview}
              chosen={search.step}
              choose={(step) => go({ step, weigh: undefined })}
              change={(c) => edit.mutate(c)}
              weigh={(weigh) => go({ weigh })}
            />
          )}
          {search.as !== "text" && <Trouble error={start.error} />}
          <Outdated
            error={start.error}
            follow={() =>
              client.fetchQuery({ ...fixPlans(t.dataset), staleTime: 0 }).then((all) => {
                follow(all?.items.find((p) => p.name === chosen?.name)?.version ?? 0);
                start.reset();
              })
            }
          />
          <Box position="sticky" bottom="0" bg="paper" py="2" zIndex="1">
            <HStack gap="3">
              <Press needs="work" onClick={() => start.mutate("preview")} loading={start.isPending}>
                Show what it would do
              </Press>
              <Press needs="work" plain onClick={() => start.mutate("apply")} disabled={start.isPending}>
                Apply it
              </Press>
            </HStack>
            {chosen && <Standing name={t.dataset} plan={chosen.name} />}
            <Text fontSize="sm" color="quiet" mt="1">
              The delivery itself never changes; applying makes a cleaned table beside it.
            </Text>
          </Box>
        </Box>
        <Box minW="0">
          {search.weigh && search.step && (
            <Weighed
              job={search.weigh}
              step={search.step}
              change={(all) => {
                for (const c of all) {
                  edit.mutate(c);
                }
              }}
            />
          )}
          {stale && (
            <Text role="status" fontWeight="600" mb="2">
              The plan was changed since; what is shown here is what it would have done before.
            </Text>
          )}
          {job && (
            <Outcome
              job={job}
              settle={(step, fields) => edit.mutate({ step, entry: { of: "choices", fields } })}
            />
          )}
        </Box>
      </Box>
    </>
  );
}

/** Drafts a plan from what was found: it was tried, and what is doubtful in it is left out, with why. */
function DraftIt(props: { t: Schemas["Table"]; name: string; take: (source: string) => void }) {
  const draft = useMutation({
    mutationFn: async () => {
      let job = await take(
        api.POST("/tables/{id}/drafts", {
          params: { path: { id: props.t.id } },
          body: { name: props.name },
        }),
      );
      while (!job.ended_at) {
        await new Promise((done) => setTimeout(done, 300));
        job = await take(api.GET("/jobs/{id}", { params: { path: { id: job.id } } }));
      }
      if (job.state !== "done") {
        throw new Error(job.error);
      }
      return (job.result as { source: string }).source;
    },
    onSuccess: props.take,
  });
  const others = (useQuery(allFixPlans).data?.items ?? []).filter((p) => p.dataset !== props.t.dataset);
  const adopt = useMutation({
    mutationFn: (source: string) =>
      take(
        api.POST("/fix-plans/edit", {
          body: {
            source,
            changes: [
              { step: 0, field: { name: "fix_plan", value: props.name } },
              { step: 0, field: { name: "dataset", value: props.t.dataset } },
            ],
          },
        }),
      ),
    onSuccess: (edited) => props.take(edited.source),
  });
  return (
    <HStack mb="2" gap="3" flexWrap="wrap">
      <Press needs="work" plain onClick={() => draft.mutate()} loading={draft.isPending}>
        Draft it from what was found
      </Press>
      {others.length > 0 && (
        <Choice
          aria-label="Take over the steps of another dataset's plan"
          value=""
          onChange={(e) => adopt.mutate(others[Number(e.target.value)].source)}
        >
          <option value="">or take over a plan …</option>
          {others.map((p, i) => (
            <option key={p.id} value={i}>
              {p.name} of {p.dataset}
            </option>
          ))}
        </Choice>
      )}
      <Trouble error={draft.error ?? adopt.error} />
    </HStack>
  );
}

/** Adds the step that a link from where the trouble was seen brings along, once. */
function usePut(
  put: string | undefined,
  edit: (c: Change) => Promise<{ outline: Schemas["PlanOutline"] }>,
  done: (step: number | undefined) => void,
) {
  const taken = useRef<string>(undefined);
  useEffect(() => {
    if (!put || taken.current === put) {
      return;
    }
    taken.current = put;
    let fields: Schemas["Field"][];
    try {
      fields = JSON.parse(put);
    } catch {
      return done(undefined);
    }
    edit({ step: 0, add: fields }).then(
      (o) => done(o.outline.steps.length),
      () => done(undefined), // it is shown above
    );
  });
}

function Steps(props: {
  t: Schemas["Table"];
  source: string;
  did: Preview | undefined;
  chosen: number | undefined;
  choose: (step: number | undefined) => void;
  change: (c: Change) => void;
  weigh: (job: number) => void;
}) {
  const outline = useQuery(planOutlined(props.source));
  const problems = useQuery(checkedText("fix-plans", props.source)).data?.problems ?? [];
  const first = outline.data?.outline.steps[0]?.line ?? Number.POSITIVE_INFINITY;
  const above = problems.filter((p) => p.line < first);
  return (
    <Shown query={outline}>
      {(o) => (
        <>
          {above.map((p) => (
            <Text key={p.message} role="alert" fontSize="sm" color="validity">
              Line {p.line}: {p.message}
            </Text>
          ))}
          <StepList
            o={o}
            problems={problems}
            did={props.did?.ledger.steps}
            chosen={props.chosen}
            choose={props.choose}
            change={props.change}
            beneath={(step, kind) =>
              kind === "estimate" && (
                <WeighIt id={props.t.id} source={props.source} step={step} done={props.weigh} />
              )
            }
          />
          <Proposed
            table={props.t.id}
            steps={o.outline.steps}
            add={(fields) => {
              props.change({ step: 0, add: fields });
              props.choose(o.outline.steps.length + 1);
            }}
          />
          <Makes
            dataset={props.t.dataset}
            now={o.outline.head.find((f) => f.name === "makes")?.value}
            set={(value) => props.change({ step: 0, field: { name: "makes", value } })}
          />
        </>
      )}
    </Shown>
  );
}

/** Which dataset the cleaned tables belong to, where the steps give them another shape. */
function Makes(props: { dataset: string; now: string | undefined; set: (name: string | undefined) => void }) {
  const all = useQuery(datasets).data?.items ?? [];
  const now = props.now ?? "";
  const names = all.map((d) => d.name).filter((n) => n !== props.dataset);
  return (
    <HStack as="label" mt="2" gap="2" fontSize="sm" flexWrap="wrap">
      <Text>It makes tables of</Text>
      <Choice
        aria-label="It makes tables of"
        value={now}
        onChange={(e) => props.set(e.target.value || undefined)}
      >
        <option value="">{props.dataset}, as it is</option>
        {(now && !names.includes(now) ? [now, ...names] : names).map((n) => (
          <option key={n}>{n}</option>
        ))}
      </Choice>
    </HStack>
  );
}
