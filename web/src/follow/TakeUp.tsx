import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { answersProposed, fixPlans, refresh, useJob } from "../client/queries";
import { Choice, Field, Press } from "../shared/controls";
import { Section } from "../shared/parts";
import { Progress, Shown, Trouble } from "../shared/states";
import { said } from "../shared/toasts";
import { count, percent, plural } from "../shared/words";

/** What the answers about a dataset would become: each line can be taken up or left, and the effect be seen before. */
export function TakeUp(props: { s: Schemas["SheetShown"]; dataset: string; waiting: Schemas["Question"][] }) {
  const { s, dataset } = props;
  const plans = useQuery(fixPlans(dataset));
  const [plan, setPlan] = useState<string>();
  const found = useQuery(answersProposed(s.id, { dataset, fix_plan: plan }));
  const names = [...new Set(plans.data?.items.map((p) => p.name))];
  return (
    <Section title={`What the answers about ${dataset} would become`}>
      <Shown query={found}>
        {(p) => (
          <Proposed
            key={`${p.table} ${p.version} ${p.fix_plan} ${props.waiting.map((q) => q.code).join()}`}
            s={s}
            p={p}
            choosePlan={
              <Choice
                aria-label="The fix plan that steps are added to"
                value={p.fix_plan}
                onChange={(e) => setPlan(e.target.value)}
              >
                {[...new Set([p.fix_plan, ...names])].map((n) => (
                  <option key={n}>{n}</option>
                ))}
              </Choice>
            }
          />
        )}
      </Shown>
    </Section>
  );
}

type Line = { code: string; says: string; as: string; doubt?: string; instead?: string };

/** Every answer with what it becomes, the doubtful ones told. */
function lines(p: Schemas["AnswersProposed"]): Line[] {
  const all = [
    ...p.steps.map((x) => ({ code: x.code, says: x.says, as: "a step", doubt: x.doubt })),
    ...p.accepted.map((x) => ({
      code: x.code,
      says: x.says,
      as: "a waiver for",
      instead: p.instead.find((i) => i.code === x.code)?.says,
    })),
    ...p.unused.map((x) => ({ code: x.code, says: `${x.says}.`, as: "nothing by itself:" })),
  ];
  return all.map((l, k) => ({ ...l, code: all.findIndex((o) => o.code === l.code) < k ? "" : l.code }));
}

function Proposed(props: {
  s: Schemas["SheetShown"];
  p: Schemas["AnswersProposed"];
  choosePlan: React.ReactNode;
}) {
  const { s, p } = props;
  const client = useQueryClient();
  const all = lines(p);
  const codes = all.map((l) => l.code).filter(Boolean);
  const [left, setLeft] = useState(new Set<string>());
  const [declared, setDeclared] = useState(new Set<string>());
  const [reason, setReason] = useState("");
  const up = useMutation({
    mutationFn: () =>
      take(
        api.POST("/sheets/{id}/taking-up", {
          params: { path: { id: s.id } },
          body: {
            dataset: p.dataset,
            fix_plan: p.fix_plan,
            version: p.version,
            table: p.table,
            take: codes.filter((c) => !left.has(c)),
            declare: [...declared].filter((c) => !left.has(c)),
            rulebook: p.rulebook,
            leave: [...left],
            reason,
          },
        }),
      ),
    onSuccess: async () => {
      said("The answers are taken up.");
      await refresh(client, "issue", "plan", "rulebook");
    },
  });
  return (
    <>
      <HStack flexWrap="wrap" fontSize="sm">
        <Text>Steps come first in the fix plan</Text>
        {props.choosePlan}
        <Text>
          ({p.version === 0 ? "a new plan" : `version ${p.version}`}
          ), worked out for{" "}
          <Link to="/tables/$id" params={{ id: String(p.table) }}>
            table {p.table}
          </Link>
          .
        </Text>
      </HStack>
      {all.map((l, k) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a code can have several lines
        <Box key={k} py="1" borderTopWidth="1px" borderColor="line">
          <chakra.div display="grid" gridTemplateColumns="24px minmax(0, 1fr)" alignItems="baseline">
            {l.code ? (
              <input
                type="checkbox"
                aria-label={`Take up ${l.code}`}
                checked={!left.has(l.code)}
                onChange={(e) =>
                  setLeft(
                    new Set(e.target.checked ? [...left].filter((c) => c !== l.code) : [...left, l.code]),
                  )
                }
              />
            ) : (
              <span />
            )}
            <span>
              <chakra.span fontFamily="mono" fontSize="sm">
                {l.code}
              </chakra.span>{" "}
              {l.instead && !left.has(l.code) ? (
                <HStack as="span" display="inline-flex" flexWrap="wrap">
                  <Choice
                    aria-label={`What ${l.code} becomes`}
                    value={declared.has(l.code) ? "rulebook" : "waiver"}
                    onChange={(e) =>
                      setDeclared(
                        new Set(
                          e.target.value === "rulebook"
                            ? [...declared, l.code]
                            : [...declared].filter((c) => c !== l.code),
                        ),
                      )
                    }
                  >
                    <option value="waiver">a waiver for</option>
                    <option value="rulebook">the rulebook, for every delivery:</option>
                  </Choice>
                  <span>{declared.has(l.code) ? l.instead : l.says}</span>
                </HStack>
              ) : (
                <>
                  <b>{l.as}</b> {l.says}
                </>
              )}
              {l.doubt && (
                <chakra.span display="block" fontSize="sm" color="validity">
                  Look at it: {l.doubt}.
                </chakra.span>
              )}
            </span>
          </chakra.div>
        </Box>
      ))}
      {p.steps.length > 0 && <Effect p={p} />}
      {declared.size > 0 && (
        <RulebookEffect
          key={[...declared].join()}
          p={p}
          changes={p.instead.filter((i) => declared.has(i.code) && !left.has(i.code)).map((i) => i.change)}
        />
      )}
      <HStack mt="2" flexWrap="wrap">
        {left.size > 0 && (
          <Field
            aria-label="Why they are left"
            placeholder={`why ${plural(left.size, "answer is", "answers are")} left`}
            w="300px"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
        )}
        <Press
          needs="work"
          onClick={() => up.mutate()}
          loading={up.isPending}
          disabled={codes.length === 0 || (left.size > 0 && reason.trim() === "")}
        >
          {left.size === codes.length
            ? "Leave them"
            : `Take up ${plural(codes.length - left.size, "answer", "answers")}`}
        </Press>
      </HStack>
      <Trouble error={up.error} />
    </>
  );
}

/** What the table would score by the rulebook as it would be saved. */
function RulebookEffect({ p, changes }: { p: Schemas["AnswersProposed"]; changes: Schemas["Change"][] }) {
  const trial = useMutation({
    mutationFn: async () => {
      const path = { dataset: p.dataset, name: p.dataset };
      const now = await take(
        api.GET("/rulebooks/{dataset}/{name}", { params: { path, query: { version: p.rulebook } } }),
      );
      const then = await take(api.POST("/rulebooks/edit", { body: { source: now.source, changes } }));
      return take(
        api.POST("/tables/{id}/trials", {
          params: { path: { id: p.table } },
          body: { source: then.source ?? now.source },
        }),
      );
    },
  });
  const job = useJob(trial.data?.id);
  const score = job?.state === "done" ? (job.result as { score: number } | null)?.score : undefined;
  return (
    <Box mt="2">
      <Text fontSize="sm">
        The rulebook asks less then, which is a decision of yours, and waits for a second person where the
        dataset wants one.
      </Text>
      {!job && (
        <Press plain onClick={() => trial.mutate()} loading={trial.isPending}>
          Try the rulebook as it would be
        </Press>
      )}
      {job && job.state !== "done" && <Progress job={job} />}
      {score !== undefined && (
        <Text role="status">
          Table {p.table} would score {percent(score)} by it.
        </Text>
      )}
      <Trouble error={trial.error} />
    </Box>
  );
}

/** What the plan would do with these steps: the same computation as when it is applied. */
function Effect({ p }: { p: Schemas["AnswersProposed"] }) {
  const preview = useMutation({
    mutationFn: () =>
      take(
        api.POST("/tables/{id}/previews", {
          params: { path: { id: p.table } },
          body: { source: p.source },
        }),
      ),
  });
  const job = useJob(preview.data?.id);
  const shown =
    job?.state === "done"
      ? (job.result as {
          change_count: number;
          before: { score: number; rows: number };
          after: { score: number; rows: number };
        })
      : undefined;
  return (
    <Box mt="2">
      {!job && (
        <Press plain onClick={() => preview.mutate()} loading={preview.isPending}>
          Show what the plan would do then
        </Press>
      )}
      {job && job.state !== "done" && <Progress job={job} />}
      {shown && (
        <Text role="status">
          The plan would change {plural(shown.change_count, "cell or row", "cells and rows")}; of{" "}
          {plural(shown.before.rows, "row", "rows")} {count(shown.after.rows)} stay, and the score goes from{" "}
          {percent(shown.before.score)} to {percent(shown.after.score)}.{" "}
          <Link
            to="/tables/$id/fix"
            params={{ id: String(p.table) }}
            search={{ plan: p.version > 0 ? p.fix_plan : undefined, job: preview.data?.id }}
          >
            Look at every change
          </Link>
        </Text>
      )}
      {job?.state === "failed" && <Text color="validity">{job.error}</Text>}
      <Trouble error={preview.error} />
    </Box>
  );
}
