import { chakra, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { dataset, datasetAudits, datasets, datasetTables, rulebook } from "../client/queries";
import { Grid, right, Td, Th } from "../shared/grid";
import { Section, TableLink, Title, Verdict } from "../shared/parts";
import { Empty, Shown } from "../shared/states";
import { bytes, count, originWord, plural, when } from "../shared/words";
import { AddDataset } from "./AddDataset";
import { CourseSection } from "./CourseSection";
import { DatasetGrid } from "./DatasetGrid";
import { Fetches } from "./Fetches";
import { FirstSteps, TakeIn } from "./FirstSteps";
import { RecordSection } from "./RecordSection";
import { ScoreLine } from "./ScoreLine";

export function DatasetsView() {
  const all = useQuery(datasets);
  return (
    <>
      <Title aside={<TakeIn />}>Datasets</Title>
      <Shown query={all}>
        {(page) => (page.items.length === 0 ? <FirstSteps /> : <DatasetGrid datasets={page.items} />)}
      </Shown>
      <AddDataset />
    </>
  );
}

/** A dataset: how its deliveries did over time, each of them, and its rulebook. */
export function DatasetView() {
  const { name } = useParams({ from: "/datasets/$name" });
  const found = useQuery(dataset(name));
  const tables = useQuery(datasetTables(name));
  const audits = useQuery(datasetAudits(name));
  return (
    <Shown query={found}>
      {(d) => (
        <>
          <Title
            aside={
              <Text color="quiet">
                <Link to="/datasets/$name/decided" params={{ name }}>
                  what was decided
                </Link>
                {"; "}
                {d.open_issues > 0 ? (
                  <Link to="/issues" search={{ dataset: name }}>
                    {plural(d.open_issues, "issue", "issues")} open
                  </Link>
                ) : (
                  "no issue is open"
                )}
              </Text>
            }
          >
            {d.title || d.name}{" "}
            <chakra.span color="quiet" fontWeight="400" fontSize="md">
              {d.title && d.name}
            </chakra.span>
          </Title>
          <Shown query={audits}>{(page) => <ScoreLine audits={page.items} />}</Shown>
          <Section title="Deliveries and tables" aside={<TakeIn dataset={name} />}>
            <Shown query={tables}>{(page) => <Tables tables={page.items} />}</Shown>
          </Section>
          <RecordSection name={name} />
          <CourseSection name={name} />
          <RulebookSection name={name} />
          <Fetches name={name} />
        </>
      )}
    </Shown>
  );
}

function Tables({ tables }: { tables: Schemas["Table"][] }) {
  if (tables.length === 0) {
    return (
      <Empty>Nothing has arrived yet. Take in the first file, or fetch it from a web address below.</Empty>
    );
  }
  return (
    <Grid label="Deliveries and tables" max="340px">
      <thead>
        <tr>
          <Th {...right}>table</Th>
          <Th>what</Th>
          <Th>file</Th>
          <Th>score</Th>
          <Th {...right}>rows</Th>
          <Th {...right}>size</Th>
          <Th>made from</Th>
          <Th>by</Th>
          <Th>when</Th>
          <Th>certified</Th>
        </tr>
      </thead>
      <tbody>
        {tables.map((t) => (
          <tr key={t.id}>
            <Td {...right}>
              <TableLink id={t.id}>{t.id}</TableLink>
            </Td>
            <Td>{originWord[t.origin]}</Td>
            <Td>
              <TableLink id={t.id}>{t.file_name}</TableLink>
            </Td>
            <Td>
              <Verdict table={t} />
            </Td>
            <Td {...right}>{count(t.rows)}</Td>
            <Td {...right}>{bytes(t.bytes)}</Td>
            <Td>
              {t.parent_id ? (
                <>
                  <TableLink id={t.parent_id}>table {t.parent_id}</TableLink> by {t.declaration}
                </>
              ) : (
                (t.declaration ?? "")
              )}
            </Td>
            <Td>{t.created_by}</Td>
            <Td whiteSpace="nowrap">{when(t.created_at)}</Td>
            <Td>
              {t.certificate_id ? (
                <Link to="/certificates/$id" params={{ id: String(t.certificate_id) }}>
                  certificate {t.certificate_id}
                </Link>
              ) : (
                "no"
              )}
            </Td>
          </tr>
        ))}
      </tbody>
    </Grid>
  );
}

/** Which version of the rulebook counts, and the way to it. */
function RulebookSection({ name }: { name: string }) {
  const book = useQuery(rulebook(name));
  return (
    <Section title="Rulebook">
      <Text>
        {book.data
          ? `Version ${book.data.version} by ${book.data.author}, ${when(book.data.created_at)}. `
          : !book.isLoading && "Nothing is declared yet, so that only the profile is known. "}
        {!book.data && (
          <>
            <Link to="/datasets/$name/proposal" params={{ name }}>
              See what could hold
            </Link>
            , or{" "}
          </>
        )}
        <Link to="/datasets/$name/rulebook" params={{ name }} search={{}}>
          {book.data ? "Read, change and try it" : "write it yourself"}
        </Link>
        {book.data && (
          <>
            {" "}
            <Link to="/decisions" search={{ dataset: name }}>
              By which decisions it became weaker
            </Link>
          </>
        )}
      </Text>
    </Section>
  );
}
