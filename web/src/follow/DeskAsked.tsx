import { Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import type { ReactNode } from "react";
import type { Schemas } from "../client/client";
import { me } from "../client/queries";
import { Section } from "../shared/parts";
import { plural } from "../shared/words";

/** What came back from those who were asked, what did not, and what waits for a second person. */
export function DeskAsked({ d }: { d: Schemas["Desk"] }) {
  const who = useQuery(me).data?.name;
  const { answers, unanswered, decisions } = d;
  if (answers.length + unanswered.length + decisions.length + d.owned_count === 0) {
    return null;
  }
  return (
    <Section title="Asked and answered">
      {d.owned_count > 0 && (
        <Line>
          <Link to="/issues" search={{ owner: who }}>
            {plural(d.owned_count, "issue waits", "issues wait")} for you as the owner of the data
          </Link>
          .
        </Line>
      )}
      {decisions.map((x) => (
        <Line key={x.id}>
          {x.asked_by} wants the rulebook of {x.dataset} to ask less, and{" "}
          <Link to="/decisions" search={{ dataset: x.dataset }}>
            decision {x.id} waits for a second person
          </Link>
          : {x.reason}
        </Line>
      ))}
      {answers.map((s) => (
        <Line key={s.id}>
          {s.recipient} answered {s.answered} of {plural(s.questions, "question", "questions")}:{" "}
          <Link to="/questions/$id" params={{ id: String(s.id) }}>
            take up the answers of sheet {s.id}
          </Link>
          .
        </Line>
      ))}
      {unanswered.map((s) => (
        <Line key={s.id}>
          {s.recipient} was asked twice, and{" "}
          {plural(s.questions - s.answered, "question is", "questions are")} not answered:{" "}
          <Link to="/questions/$id" params={{ id: String(s.id) }}>
            sheet {s.id}
          </Link>
          , due on {s.due}.
        </Line>
      ))}
    </Section>
  );
}

const Line = ({ children }: { children: ReactNode }) => (
  <Text borderLeftWidth="4px" borderColor="accent" pl="2" my="1">
    {children}
  </Text>
);
