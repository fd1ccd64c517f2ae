import { Text } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { Section, TableLink } from "../shared/parts";
import { count, percent, when } from "../shared/words";

const most = 8;

/** Tables that wait for somebody, a line each, with the way to what has to be done. */
export function DeskTables(props: {
  title: string;
  tables: Schemas["Table"][];
  view: string;
  says: (t: Schemas["Table"]) => string;
}) {
  const { tables, view } = props;
  return tables.length === 0 ? null : (
    <Section title={props.title}>
      {tables.slice(0, most).map((t) => (
        <Text key={t.id} borderLeftWidth="4px" borderColor="accent" pl="2" my="1">
          <Link to="/tables/$id" params={{ id: String(t.id) }} search={{ view }}>
            {props.says(t)}
          </Link>
          {t.score != null && `; score ${percent(t.score)}`}, {when(t.created_at)}.
        </Text>
      ))}
      {tables.length > most && (
        <Text fontSize="sm" color="quiet">
          The first {count(most)} of {count(tables.length)}; all stand among the datasets below.
        </Text>
      )}
    </Section>
  );
}

/** Jobs that failed and were not tried again. */
export function FailedJobs({ jobs }: { jobs: Schemas["Job"][] }) {
  return jobs.map((j) => (
    <Text key={j.id} borderLeftWidth="4px" borderColor="validity" pl="2" my="1">
      The {j.kind} of {j.table_id ? <TableLink id={j.table_id}>{j.dataset}</TableLink> : j.dataset} failed:{" "}
      {j.error}
    </Text>
  ));
}
