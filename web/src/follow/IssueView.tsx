import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { api, type Schemas, take } from "../client/client";
import { issue, me, people, refresh } from "../client/queries";
import { Choice, Field, Press } from "../shared/controls";
import { Entry } from "../shared/Entry";
import { Section, Severity, TableLink, Title } from "../shared/parts";
import { Shown, Trouble } from "../shared/states";
import { said } from "../shared/toasts";
import { count, when } from "../shared/words";
import { ClosingForm, CommentForm, WaiverForm } from "./IssueForms";
import { howLong, standing } from "./issueWords";
import { QuestionLine } from "./QuestionLine";

/** One issue: what was found, what happened to it, and what can be decided. */
export function IssueView() {
  const id = Number(useParams({ from: "/issues/$id" }).id);
  const found = useQuery(issue(id));
  return <Shown query={found}>{(i) => <Loaded i={i} />}</Shown>;
}

const entryWord: Record<string, string> = {
  opened: "opened it",
  seen: "found it again",
  reopened: "opened it again",
  closed: "closed it",
  asked: "asked the owner of the data",
  answered: "took an answer in",
  waived: "waived it",
  waiver_ended: "ended a waiver",
  assigned: "",
  owned: "",
  due: "",
  moved: "moved it",
  put_right: "found none of it in a table that was made here",
  comment: "wrote",
  expired: "opened it again: the waiver had ended",
};

/** Who did what happened: a person, an audit, or somebody without an account. */
const doer = (e: Schemas["IssueEntry"]) =>
  e.person ?? (e.audit_id ? `audit ${e.audit_id}` : e.kind === "answered" ? "the page" : "the service");

function Loaded({ i }: { i: Schemas["IssueShown"] }) {
  const client = useQueryClient();
  const who = useQuery(me);
  const seen = { "If-Match": `"${i.version}"` };
  const done = { onSuccess: () => refresh(client, "issue") };
  const path = { id: i.id };
  const comment = useMutation({
    mutationFn: (text: string) =>
      take(api.POST("/issues/{id}/comments", { params: { path }, body: { text } })),
    ...done,
  });
  const waive = useMutation({
    mutationFn: (body: Schemas["Waived"]) =>
      take(api.POST("/issues/{id}/waiver", { params: { path, header: seen }, body })),
    onSuccess: (after) => {
      said(
        after.state === "waived"
          ? `Issue ${i.id} is waived.`
          : `That is waived; the rest of issue ${i.id} stays ${after.state}.`,
      );
      return done.onSuccess();
    },
  });
  const close = useMutation({
    mutationFn: (body: Schemas["Closing"]) =>
      take(api.POST("/issues/{id}/closing", { params: { path, header: seen }, body })),
    ...done,
  });
  const may = who.data?.rights.includes("discuss");
  const closable = i.state !== "closed" && (i.subject !== "rule" || i.holds_audit_id != null);
  return (
    <Box display="grid" gridTemplateColumns={{ base: "minmax(0, 1fr)", lg: "minmax(0, 1fr) 340px" }} gap="8">
      <Box>
        <Title>
          {i.id}. {i.title}
        </Title>
        <HStack gap="4" flexWrap="wrap">
          <Severity of={i.severity} />
          <Text>{standing(i)}</Text>
          {i.overdue && <Text fontWeight="700">overdue since {i.due}</Text>}
          <Link to="/datasets/$name" params={{ name: i.dataset }}>
            {i.dataset}
          </Link>
          <Text fontFamily="mono" fontSize="sm">
            {i.rule}
          </Text>
          {i.table_id && i.audit_id && (
            <Link
              to="/tables/$id"
              params={{ id: String(i.table_id) }}
              search={
                i.subject === "rule"
                  ? { view: "rows", rule: i.rule, audit: i.audit_id }
                  : { view: "findings" }
              }
            >
              {i.subject === "rule" && i.rows > 0 ? `Show the ${count(i.rows)} rows in ` : "Show "}table{" "}
              {i.table_id}
            </Link>
          )}
        </HStack>
        {i.holds_audit_id != null && (
          <Text mt="2" borderLeftWidth="4px" borderColor="accent" pl="2">
            A table that was made here has none of it any more, but the owner of the data has not answered
            yet. Wait, or close it with a reason.
          </Text>
        )}
        <Waivers i={i} may={may ?? false} />
        {i.asked.length > 0 && (
          <Section title="What the owner of the data was asked">
            {i.asked.map((q) => (
              <QuestionLine key={q.id} q={q} sheet />
            ))}
          </Section>
        )}
        <Section title="What happened">
          <chakra.ol listStyleType="none">
            {i.entries.map((e) => (
              <chakra.li key={e.id} py="1.5" borderTopWidth="1px" borderColor="line">
                <chakra.span color="quiet" fontSize="sm">
                  {when(e.at)}
                </chakra.span>{" "}
                <chakra.span fontWeight="650">{doer(e)}</chakra.span> {entryWord[e.kind]}
                {e.kind === "closed" && !e.text && ": the rule holds"}
                {e.text &&
                  (e.kind === "comment" ? (
                    <Text whiteSpace="pre-wrap">{e.text}</Text>
                  ) : (
                    `${entryWord[e.kind] ? ":" : ""} ${e.text}`
                  ))}
              </chakra.li>
            ))}
          </chakra.ol>
        </Section>
        {may && <CommentForm onSend={(text) => comment.mutateAsync(text)} error={comment.error} />}
      </Box>
      {may && (
        <Box as="aside" aria-label="Decide">
          <People i={i} />
          {closable && (
            <ClosingForm onSend={(b) => close.mutateAsync(b)} busy={close.isPending} error={close.error} />
          )}
          {i.state !== "closed" && (
            <WaiverForm
              issue={i}
              onSend={(b) => waive.mutateAsync(b)}
              busy={waive.isPending}
              error={waive.error}
            />
          )}
        </Box>
      )}
    </Box>
  );
}

/** Who works on it, who can tell what is right, and until when; and the way to ask. */
function People({ i }: { i: Schemas["IssueShown"] }) {
  const client = useQueryClient();
  const everybody = useQuery(people);
  const change = useMutation({
    mutationFn: (body: Schemas["IssueChanged"]) =>
      take(
        api.PATCH("/issues/{id}", {
          params: { path: { id: i.id }, header: { "If-Match": `"${i.version}"` } },
          body,
        }),
      ),
    onSuccess: () => refresh(client, "issue"),
  });
  return (
    <>
      <Section title="Assigned to">
        <Choice
          aria-label="Assigned to"
          value={i.assignee ?? ""}
          onChange={(e) => change.mutate({ assignee: e.target.value })}
        >
          <option value="">nobody</option>
          {everybody.data?.map((p) => (
            <option key={p.id}>{p.name}</option>
          ))}
        </Choice>
      </Section>
      <Section title="Owner of the data, and due day">
        <HStack flexWrap="wrap">
          <Entry
            w="170px"
            label="The owner of the data"
            placeholder="who can tell"
            value={i.owner}
            set={(owner) => change.mutate({ owner })}
          />
          <Field
            aria-label="Due day"
            type="date"
            value={i.due ?? ""}
            onChange={(e) => change.mutate({ due: e.target.value })}
          />
        </HStack>
      </Section>
      {i.state !== "closed" && (
        <Section title="Ask">
          <HStack flexWrap="wrap">
            <Link to="/questions/new" search={{ issues: [i.id] }}>
              Write questions to the owner
            </Link>
            {i.state === "asked" ? (
              <Press plain onClick={() => change.mutate({ state: "open" })}>
                It is answered: open it again
              </Press>
            ) : (
              <Press plain onClick={() => change.mutate({ state: "asked" })}>
                The owner was asked otherwise
              </Press>
            )}
          </HStack>
        </Section>
      )}
      {i.state === "closed" && (
        <Section title="Open it again">
          <Press plain onClick={() => change.mutate({ state: "open" })}>
            Open it again
          </Press>
        </Section>
      )}
      <Trouble error={change.error} />
    </>
  );
}

/** What is accepted of it, and by whom. */
function Waivers({ i, may }: { i: Schemas["IssueShown"]; may: boolean }) {
  const client = useQueryClient();
  const end = useMutation({
    mutationFn: (waiver: number) =>
      take(
        api.DELETE("/issues/{id}/waivers/{waiver}", {
          params: { path: { id: i.id, waiver }, header: { "If-Match": `"${i.version}"` } },
        }),
      ),
    onSuccess: () => refresh(client, "issue"),
  });
  if (i.given.length === 0) {
    return null;
  }
  return (
    <Section title="What is accepted of it">
      {i.given.map((w) => (
        <Box
          key={w.id}
          py="1"
          borderTopWidth="1px"
          borderColor="line"
          color={w.in_force ? undefined : "quiet"}
        >
          <Text>
            <b>{w.covers}</b>, {howLong(w)}, by {w.by}, {when(w.at)}
            {w.table_id && (
              <>
                {" "}
                (<TableLink id={w.table_id}>table {w.table_id}</TableLink>)
              </>
            )}
            : {w.reason}
          </Text>
          {w.in_force
            ? may && (
                <Press plain size="xs" h="6" onClick={() => end.mutate(w.id)} loading={end.isPending}>
                  End this waiver
                </Press>
              )
            : w.ended_by
              ? `Ended by ${w.ended_by}, ${when(w.ended_at)}.`
              : "It is over."}
        </Box>
      ))}
      <Trouble error={end.error} />
    </Section>
  );
}
