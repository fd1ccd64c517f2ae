import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { datasets, issue, issues, me, people, refresh } from "../client/queries";
import {
  Choice,
  Field,
  More,
  Press,
  Section,
  Severity,
  Shown,
  Title,
  Trouble,
  Writing,
} from "../shared/parts";
import { count, plural, when } from "../shared/words";
import { IssueGrid } from "./IssueGrid";

const states = ["unsettled", "open", "asked", "waived", "closed", "all"] as const;

export function IssuesView() {
  const search = useSearch({ from: "/issues" });
  const navigate = useNavigate();
  const state = states.find((s) => s === search.state) ?? "unsettled";
  const known = useQuery(datasets);
  const found = useInfiniteQuery(
    issues({ dataset: search.dataset, state: state === "all" ? undefined : state }),
  );
  const go = (change: object) => navigate({ to: "/issues", search: { ...search, ...change } });
  return (
    <>
      <Title
        aside={
          <HStack gap="3">
            <Choice aria-label="State" value={state} onChange={(e) => go({ state: e.target.value })}>
              {states.map((s) => (
                <option key={s} value={s}>
                  {s === "unsettled" ? "open or asked" : s}
                </option>
              ))}
            </Choice>
            <Choice
              aria-label="Dataset"
              value={search.dataset ?? ""}
              onChange={(e) => go({ dataset: e.target.value || undefined })}
            >
              <option value="">all datasets</option>
              {known.data?.items.map((d) => (
                <option key={d.id}>{d.name}</option>
              ))}
            </Choice>
          </HStack>
        }
      >
        Issues
      </Title>
      <Shown query={found}>
        {(page) => (
          <IssueGrid
            issues={page.items}
            empty="No issue is in this state. Choose another state above, or take in a delivery."
          />
        )}
      </Shown>
      <More query={found} shown={found.data?.items.length ?? 0} />
    </>
  );
}

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
    ...done,
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
            <WaiverForm onSend={(b) => waive.mutate(b)} busy={waive.isPending} error={waive.error} />
          )}
        </Box>
      )}
    </Box>
  );
}

function CommentForm({ onSend, error }: { onSend: (text: string) => Promise<unknown>; error: unknown }) {
  const [text, setText] = useState("");
  const send = async (e: FormEvent) => {
    e.preventDefault();
    await onSend(text);
    setText("");
  };
  return (
    <chakra.form onSubmit={send} mt="3">
      <Writing
        aria-label="Comment"
        rows={3}
        required
        value={text}
        onChange={(e) => setText(e.target.value)}
        placeholder="A question, an answer, an assumption"
      />
      <Trouble error={error} />
      <Press type="submit" plain disabled={text.trim() === ""}>
        Add to the record
      </Press>
    </chakra.form>
  );
}

function WaiverForm({
  onSend,
  busy,
  error,
}: {
  onSend: (b: Schemas["WaiverBody"]) => void;
  busy: boolean;
  error: unknown;
}) {
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState("");
  return (
    <Section title="Waive: accept it as it is">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          onSend({ reason, until });
        }}
      >
        <Writing
          aria-label="Reason"
          rows={3}
          required
          minLength={3}
          value={reason}
          onChange={(e) => setReason(e.target.value)}
          placeholder="Why it may stand"
        />
        <HStack mt="1">
          <label htmlFor="until">until</label>
          <Field
            id="until"
            type="date"
            required
            min={new Date().toISOString().slice(0, 10)}
            value={until}
            onChange={(e) => setUntil(e.target.value)}
          />
          <Press type="submit" loading={busy}>
            Waive
          </Press>
        </HStack>
        <Trouble error={error} />
      </form>
    </Section>
  );
}
