import { Box, chakra, Text } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import type { ReactNode } from "react";
import type { Schemas } from "../client/client";
import { Value } from "../shared/Value";
import { plural, when } from "../shared/words";
import { answerWord, type Item } from "./issueWords";

/** What a question is about: a text, or a row with what stands in it. */
export function ItemShown({ item, found }: { item: Item; found: string }) {
  if (item.kind === "text") {
    return (
      <>
        <Value text={item.text ?? ""} /> in <b>{item.column}</b>, in {plural(item.rows ?? 0, "row", "rows")}
      </>
    );
  }
  if (item.kind === "row") {
    return item.columns?.map((c, k) => (
      <chakra.span key={c} mr="3" display="inline-block">
        <chakra.span color="quiet" fontSize="sm">
          {c}
        </chakra.span>{" "}
        <chakra.span fontWeight={item.named?.includes(c) ? "650" : undefined}>
          <Value text={item.cells?.[k] ?? ""} />
        </chakra.span>
      </chakra.span>
    ));
  }
  return <>{found}</>;
}

/** One question with its answer, and what became of it. */
export function QuestionLine({
  q,
  sheet,
  before,
}: {
  q: Schemas["Question"];
  sheet?: boolean;
  before?: ReactNode;
}) {
  const right = (q.right ?? {}) as Record<string, string>;
  return (
    <Box py="1.5" borderTopWidth="1px" borderColor="line">
      <Text>
        {before}
        <chakra.span fontFamily="mono" fontSize="sm">
          {q.code}
        </chakra.span>{" "}
        <ItemShown item={q.item as Item} found={q.found} />{" "}
        {sheet && (
          <Link to="/questions/$id" params={{ id: String(q.sheet_id) }}>
            (sheet {q.sheet_id})
          </Link>
        )}
      </Text>
      {q.supposes && (
        <Text fontSize="sm" color="quiet">
          We suppose: {q.supposes}
        </Text>
      )}
      {q.answer ? (
        <Text>
          <b>{answerWord[q.answer]}</b>
          {Object.entries(right).map(([column, text]) => (
            <span key={column}>
              {" "}
              right in {column} is <Value text={text} />
            </span>
          ))}
          {q.note && `: ${q.note}`}{" "}
          <chakra.span color="quiet" fontSize="sm">
            {q.answered_by}, {when(q.answered_at)}
            {q.via === "link" ? `, by the link from ${q.came_from}` : q.via === "file" ? ", in a file" : ""}
          </chakra.span>
        </Text>
      ) : (
        <Text color="quiet">not answered yet</Text>
      )}
      {q.outcome && (
        <Text fontSize="sm">
          {q.outcome === "left" ? "Left" : "Taken up"} by {q.settled_by}: {q.became}
        </Text>
      )}
    </Box>
  );
}
