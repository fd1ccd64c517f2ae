import { Box, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import type { Schemas } from "../../client/client";
import { audit, comparison, datasetTables } from "../../client/queries";
import { RuleChanges } from "../../judge/RuleChanges";
import type { TableSearch } from "../../shared/addresses";
import { Choice } from "../../shared/controls";
import { Section } from "../../shared/parts";
import { Empty, Shown } from "../../shared/states";
import { count, originWord, percent, when } from "../../shared/words";
import { ColumnChanges } from "./ColumnChanges";
import { OneColumn } from "./OneColumn";
import { RowByRow } from "./RowByRow";

/** Two tables of a dataset side by side, column by column: what is new, gone and otherwise. */
export function ComparePanel({ t, a }: { t: Schemas["Table"]; a: Schemas["AuditShown"] }) {
  const all = useQuery(datasetTables(t.dataset));
  const search = useSearch({ from: "/tables/$id" });
  const navigate = useNavigate();
  const change = (what: Partial<TableSearch>) =>
    navigate({
      to: "/tables/$id",
      params: { id: String(t.id) },
      search: { ...search, view: "compare", ...what },
    });
  return (
    <Shown query={all}>
      {({ items }) => {
        const others = items.filter((o) => o.id !== t.id && o.audit_id != null);
        // The newest that came before it and is of its kind; any other where there is none.
        const before =
          others.find((o) => o.id === search.with) ??
          others.find((o) => o.origin === t.origin && o.id < t.id) ??
          others[0];
        if (!before) {
          return (
            <Empty>{t.dataset} has no other table that is judged. Take in another delivery to compare.</Empty>
          );
        }
        return (
          <>
            <HStack gap="2" mb="2" flexWrap="wrap">
              <Text>Against</Text>
              <Choice
                aria-label="The table that it is held against"
                value={before.id}
                onChange={(e) => change({ with: Number(e.target.value) })}
                maxW="420px"
              >
                {others.map((o) => (
                  <option key={o.id} value={o.id}>
                    {o.file_name}, {originWord[o.origin]} {o.id}, {when(o.created_at)}
                  </option>
                ))}
              </Choice>
            </HStack>
            <SideBySide t={t} a={a} before={before} change={change} />
            <RowByRow t={t} before={before} change={change} />
          </>
        );
      }}
    </Shown>
  );
}

function SideBySide(props: {
  t: Schemas["Table"];
  a: Schemas["AuditShown"];
  before: Schemas["Table"];
  change: (what: Partial<TableSearch>) => void;
}) {
  const { t, a, before } = props;
  const { column } = useSearch({ from: "/tables/$id" });
  const found = useQuery(comparison(a.id, before.audit_id ?? undefined));
  const then = useQuery(audit(before.audit_id ?? 0));
  return (
    <Shown query={found}>
      {(c) => (
        <>
          <Text>
            {count(c.rows.after)} rows, and {count(c.rows.before)} there
            {c.score.after != null &&
              `; score ${percent(c.score.after)}, and ${percent(c.score.before)} there`}
            .
          </Text>
          <Section title="Columns">
            <ColumnChanges c={c} chosen={column} choose={(name) => props.change({ column: name })} />
          </Section>
          {column && then.data && (
            <OneColumn t={t} before={before} name={column} now={a.result} then={then.data.result} />
          )}
          <Section title="What must hold">
            <Box maxW="1000px">
              <RuleChanges c={c} />
            </Box>
          </Section>
        </>
      )}
    </Shown>
  );
}
