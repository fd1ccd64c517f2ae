import { chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import {
  dataset,
  datasetAudits,
  datasets,
  datasetTables,
  fetches,
  refresh,
  rulebook,
} from "../client/queries";
import {
  Empty,
  Field,
  Grid,
  Press,
  right,
  Section,
  Shown,
  TableLink,
  Td,
  Th,
  Title,
  Trouble,
  Verdict,
} from "../shared/parts";
import { bytes, count, originWord, plural, when } from "../shared/words";
import { AddDataset } from "./AddDataset";
import { DatasetGrid } from "./DatasetGrid";
import { FirstSteps, TakeIn } from "./FirstSteps";
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

/** The web addresses from which deliveries are fetched. */
function Fetches({ name }: { name: string }) {
  const client = useQueryClient();
  const known = useQuery(fetches(name));
  const [address, setAddress] = useState("");
  const [hours, setHours] = useState("");
  const done = () => refresh(client, "delivery");
  const add = useMutation({
    mutationFn: () =>
      take(
        api.POST("/datasets/{name}/fetches", {
          params: { path: { name } },
          body: { address, every_minutes: hours ? Math.round(Number(hours) * 60) : undefined },
        }),
      ),
    onSuccess: () => {
      setAddress("");
      return done();
    },
  });
  const run = useMutation({
    mutationFn: (id: number) => take(api.POST("/fetches/{id}/run", { params: { path: { id } } })),
    onSuccess: done,
  });
  const end = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/fetches/{id}", { params: { path: { id } } })),
    onSuccess: done,
  });
  const active = known.data?.filter((f) => !f.ended_at) ?? [];
  return (
    <Section title="Fetch deliveries from a web address">
      <HStack
        as="form"
        gap="3"
        flexWrap="wrap"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <Field
          aria-label="Address"
          placeholder="https://…"
          type="url"
          required
          w="380px"
          value={address}
          onChange={(e) => setAddress(e.target.value)}
        />
        <Field
          aria-label="Every so many hours"
          placeholder="every … hours"
          type="number"
          min={0.1}
          step="any"
          w="130px"
          value={hours}
          onChange={(e) => setHours(e.target.value)}
        />
        <Press needs="work" type="submit" plain loading={add.isPending}>
          Fetch
        </Press>
      </HStack>
      <Trouble error={add.error ?? run.error ?? end.error} />
      {active.map((f) => (
        <HStack key={f.id} gap="3" py="1" fontSize="sm" flexWrap="wrap">
          <chakra.span fontFamily="mono" wordBreak="break-all">
            {f.address}
          </chakra.span>
          <span>
            {f.every_minutes ? `every ${plural(f.every_minutes, "minute", "minutes")}` : "on request"};{" "}
            {f.checked_at ? `${when(f.checked_at)}: ${f.message}` : "not fetched yet"}
          </span>
          {f.table_id && <TableLink id={f.table_id}>newest delivery</TableLink>}
          <Press needs="work" plain size="xs" h="6" onClick={() => run.mutate(f.id)}>
            Fetch now
          </Press>
          <Press needs="work" plain size="xs" h="6" onClick={() => end.mutate(f.id)}>
            End
          </Press>
        </HStack>
      ))}
    </Section>
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
      </Text>
    </Section>
  );
}
