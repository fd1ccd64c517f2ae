import { Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../../client/client";
import { missingTogether } from "../../client/queries";
import { Section } from "../../shared/parts";
import { Empty, Shown } from "../../shared/states";
import { count, plural } from "../../shared/words";
import { MissingAlong } from "./MissingAlong";
import { MissingPairs } from "./MissingPairs";

/** Where a table misses values: along the file, and between its columns. */
export function MissingPanel({ t, a }: { t: Schemas["Table"]; a: Schemas["AuditShown"] }) {
  const r = a.result;
  const lacking = r.columns.filter((c) => c.missing > 0).sort((x, y) => y.missing - x.missing);
  if (lacking.length === 0) {
    return (
      <Empty>
        Every cell of {plural(r.rows, "row", "rows")} is filled. See what the columns hold under columns.
      </Empty>
    );
  }
  const complete = r.missing_together.find((p) => p.missing.length === 0)?.rows ?? 0;
  return (
    <>
      <Text>
        {count(lacking.length)} of {plural(r.columns.length, "column lacks", "columns lack")} values;{" "}
        {count(complete)} of {plural(r.rows, "row is", "rows are")} complete.
      </Text>
      <Section title="Along the file">
        <MissingAlong t={t} columns={lacking} rows={r.rows} />
      </Section>
      {lacking.length > 1 && (
        <Section title="Between columns">
          <Pairs t={t} lacking={lacking.length} />
        </Section>
      )}
    </>
  );
}

function Pairs({ t, lacking }: { t: Schemas["Table"]; lacking: number }) {
  const found = useQuery(missingTogether(t.id));
  return (
    <Shown query={found} waiting="Looking through all rows …">
      {(together) => <MissingPairs t={t} together={together} lacking={lacking} />}
    </Shown>
  );
}
