import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { api, type Schemas, take } from "../client/client";
import { issue, me, people, refresh } from "../client/queries";
import { Choice, Press } from "../shared/controls";
import { Section, Severity, Title } from "../shared/parts";
import { Shown, Trouble } from "../shared/states";
import { said } from "../shared/toasts";
import { count, plural, when } from "../shared/words";
import { CommentForm, WaiverForm } from "./IssueForms";

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
  closed: "closed it: the rule holds",
  asked: "asked the owner of the data",
  waived: "waived it",
  assigned: "",
  comment: "wrote",
  expired: "opened it again: the waiver had ended",
};

function Loaded({ i }: { i: Schemas["IssueShown"] }) {
  const client = useQueryClient();
  const who = useQuery(me);
  const everybody = useQuery(people);
  const seen = { "If-Match": `"${i.version}"` };
  const done = { onSuccess: () => refresh(client, "issue") };
  const path = { id: i.id };
  const change = useMutation({
    mutationFn: (body: Schemas["IssueChangeBody"]) =>
      take(api.PATCH("/issues/{id}", { params: { path, header: seen }, body })),
    ...done,
  });
  const comment = useMutation({
    mutationFn: (text: string) =>
      take(api.POST("/issues/{id}/comments", { params: { path }, body: { text } })),
    ...done,
  });
  const waive = useMutation({
    mutationFn: (body: Schemas["WaiverBody"]) =>
      take(api.POST("/issues/{id}/waiver", { params: { path, header: seen }, body })),
    onSuccess: () => {
      said(`Issue ${i.id} is waived.`);
      return done.onSuccess();
    },
  });
  const may = who.data?.rights.includes("discuss");
  const settled = i.state === "closed" || i.state === "waived";
  return (
    <Box display="grid" gridTemplateColumns={{ base: "minmax(0, 1fr)", lg: "minmax(0, 1fr) 340px" }} gap="8">
      <Box>
        <Title>
          {i.id}. {i.title}
        </Title>
        <HStack gap="4" flexWrap="wrap">
          <Severity of={i.severity} />
          <Text>{i.state}</Text>
          <Link to="/datasets/$name" params={{ name: i.dataset }}>
            {i.dataset}
          </Link>
          <Text fontFamily="mono" fontSize="sm">
            {i.rule}
          </Text>
          {i.table_id && (
            <Link
              to="/tables/$id"
              params={{ id: String(i.table_id) }}
              search={{ view: "rows", rule: i.rule }}
            >
              Show the {count(i.rows)} rows in table {i.table_id}
            </Link>
          )}
        </HStack>
        {i.waiver_until && (
          <Text mt="2">
            Waived by {i.waiver_by} until {i.waiver_until}
            {i.waiver_rows != null && <> for {plural(i.waiver_rows, "row", "rows")}</>}: {i.waiver_reason}
          </Text>
        )}
        <Section title="What happened">
          <chakra.ol listStyleType="none">
            {i.entries.map((e) => (
              <chakra.li key={e.id} py="1.5" borderTopWidth="1px" borderColor="line">
                <chakra.span color="quiet" fontSize="sm">
                  {when(e.at)}
                </chakra.span>{" "}
                <chakra.span fontWeight="650">{e.person ?? `audit ${e.audit_id}`}</chakra.span>{" "}
                {entryWord[e.kind]}
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
          {!settled && (
            <Section title="Ask">
              {i.state === "asked" ? (
                <Press plain onClick={() => change.mutate({ state: "open" })}>
                  It is answered: open it again
                </Press>
              ) : (
                <Press plain onClick={() => change.mutate({ state: "asked" })}>
                  The owner was asked
                </Press>
              )}
            </Section>
          )}
          <Trouble error={change.error} />
          {i.state !== "closed" && (
            <WaiverForm onSend={(b) => waive.mutateAsync(b)} busy={waive.isPending} error={waive.error} />
          )}
        </Box>
      )}
    </Box>
  );
}
