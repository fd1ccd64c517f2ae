import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { useEffect } from "react";
import { api, type Schemas, take } from "../client/client";
import { me, refresh, sheet } from "../client/queries";
import { Press } from "../shared/controls";
import { Section, Title } from "../shared/parts";
import { Shown, Trouble } from "../shared/states";
import { said } from "../shared/toasts";
import { plural, when } from "../shared/words";
import { QuestionLine } from "./QuestionLine";
import { TakeAnswers } from "./SheetsView";
import { TakeUp } from "./TakeUp";

/** A sheet of questions: the way to its page, what was answered, and what that would become. */
export function SheetView() {
  const id = Number(useParams({ from: "/questions/$id" }).id);
  const found = useQuery(sheet(id));
  return <Shown query={found}>{(s) => <Loaded s={s} />}</Shown>;
}

function Loaded({ s }: { s: Schemas["SheetShown"] }) {
  const who = useQuery(me).data;
  const waiting = s.asked.filter((q) => q.answer && !q.outcome);
  const datasets = [...new Set(waiting.map((q) => q.dataset))];
  const groups = [...new Set(s.asked.map((q) => q.issue_id))];
  return (
    <Box maxW="1100px">
      <Title aside={<TakeAnswers />}>
        Sheet {s.id}: {s.recipient}
      </Title>
      <Text>
        {s.created_by} asks {plural(s.questions, "question", "questions")}, {when(s.created_at)}; {s.answered}{" "}
        answered, {s.settled} taken up or left.{" "}
        {s.closed_at
          ? `Closed ${when(s.closed_at)}.`
          : `Due on ${s.due}${s.overdue ? ", which is over" : ""}.`}
        {s.asked_again_at && ` It was asked once more ${when(s.asked_again_at)}.`}
      </Text>
      <TheirWay s={s} may={who?.rights.includes("discuss") ?? false} />
      {who?.rights.includes("work") &&
        datasets.map((d) => (
          <TakeUp key={d} s={s} dataset={d} waiting={waiting.filter((q) => q.dataset === d)} />
        ))}
      <Section title="Questions">
        {groups.map((issue) => {
          const of = s.asked.filter((q) => q.issue_id === issue);
          return (
            <Box key={issue} mb="3">
              <Text fontWeight="650">
                <Link to="/issues/$id" params={{ id: String(issue) }}>
                  {of[0].found}
                </Link>{" "}
                <chakra.span color="quiet" fontWeight="400">
                  {of[0].dataset}
                </chakra.span>
              </Text>
              {of.map((q) => (
                <QuestionLine key={q.id} q={q} />
              ))}
            </Box>
          );
        })}
      </Section>
    </Box>
  );
}

/** The letters with its link. */
function Letters({ s }: { s: Schemas["SheetShown"] }) {
  const client = useQueryClient();
  const waits = s.sent.some((l) => l.state === "waiting");
  useEffect(() => {
    const timer = waits ? setInterval(() => refresh(client, "issue"), 3000) : undefined;
    return () => clearInterval(timer);
  }, [waits, client]);
  return s.sent.map((l) => (
    <Text key={l.id} fontSize="sm">
      {l.again ? "Asked once more by letter" : "Mailed"} to {s.address}, {when(l.created_at)}:{" "}
      {l.state === "sent" ? "sent" : l.state === "waiting" ? "on its way" : "given up"}
      {l.state !== "sent" && l.problem && ` (${l.problem})`}.
    </Text>
  ));
}

/** How whoever is asked comes to the questions: a link, a workbook or CSV. */
function TheirWay({ s, may }: { s: Schemas["SheetShown"]; may: boolean }) {
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: (what: "renew" | "revoke" | "close") => {
      const params = { path: { id: s.id } };
      return what === "renew"
        ? take(api.POST("/sheets/{id}/link", { params, body: { days: 30 } }))
        : what === "revoke"
          ? take(api.DELETE("/sheets/{id}/link", { params }))
          : take(api.POST("/sheets/{id}/closing", { params }));
    },
    onSuccess: () => refresh(client, "issue"),
  });
  const address = s.link && `${location.origin}${s.link}`;
  return (
    <Section title="Their way to it">
      {address ? (
        <HStack flexWrap="wrap">
          <chakra.a href={address} target="_blank" rel="noreferrer" fontSize="sm" overflowWrap="anywhere">
            {address}
          </chakra.a>
          <Press
            plain
            size="xs"
            h="6"
            onClick={() => navigator.clipboard.writeText(address).then(() => said("The link is copied."))}
          >
            Copy the link
          </Press>
          <Text fontSize="sm" color="quiet">
            Good until {when(s.link_ends)}.
          </Text>
        </HStack>
      ) : (
        <Text color="quiet">
          {s.closed_at ? "The sheet is closed." : "There is no link that leads to it."}
        </Text>
      )}
      <Letters s={s} />
      <HStack flexWrap="wrap" mt="1" gap="4" fontSize="sm">
        <a href={`/api/v1/sheets/${s.id}/file?format=xlsx`} download>
          As a workbook
        </a>
        <a href={`/api/v1/sheets/${s.id}/file?format=csv`} download>
          As CSV
        </a>
        {may && !s.closed_at && (
          <>
            <Press plain size="xs" h="6" onClick={() => change.mutate("renew")}>
              Make a new link
            </Press>
            {address && (
              <Press plain size="xs" h="6" onClick={() => change.mutate("revoke")}>
                Take the link back
              </Press>
            )}
            <Press plain size="xs" h="6" onClick={() => change.mutate("close")}>
              Wait for nothing of it any more
            </Press>
          </>
        )}
      </HStack>
      <Trouble error={change.error} />
    </Section>
  );
}
