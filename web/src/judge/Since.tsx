import { List, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { comparison } from "../client/queries";
import { Section } from "../shared/parts";
import { count, percent } from "../shared/words";
import { RuleChanges } from "./RuleChanges";

/** What changed since the audit before. */
export function Since({ a }: { a: Schemas["AuditShown"] }) {
  const found = useQuery(comparison(a.id));
  const c = found.data;
  if (!c) {
    return null; // the first audit has none before it
  }
  const columns = c.columns.flatMap((x) =>
    x.turn === "new" || x.turn === "gone"
      ? [`${x.name} is ${x.turn === "new" ? "new" : "gone"}`]
      : x.says.map((says) => `${x.name} ${says}`),
  );
  return (
    <Section
      title="Since the audit before"
      aside={
        <Text fontSize="sm" color="quiet">
          against{" "}
          <Link to="/tables/$id" params={{ id: String(c.before.table_id) }} search={{ view: "findings" }}>
            {c.before.file_name}
          </Link>
          , audit {c.before.id};{" "}
          <Link
            to="/tables/$id"
            params={{ id: String(a.table_id) }}
            search={{ view: "compare", with: c.before.table_id }}
          >
            side by side
          </Link>
        </Text>
      }
    >
      <Text fontSize="sm">
        Score {percent(c.score.after)}, before {percent(c.score.before)}; {count(c.rows.after)} rows, before{" "}
        {count(c.rows.before)}.
      </Text>
      {columns.length > 0 && (
        <List.Root fontSize="sm" maxH="200px" overflowY="auto" aria-label="What changed of the columns">
          {columns.map((says) => (
            <List.Item key={says}>{says}</List.Item>
          ))}
        </List.Root>
      )}
      <RuleChanges c={c} />
    </Section>
  );
}
