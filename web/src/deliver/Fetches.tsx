import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useId, useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { databases, databaseTables, fetches, refresh } from "../client/queries";
import { Choice, Field, Press, useMay, Writing } from "../shared/controls";
import { Section, TableLink } from "../shared/parts";
import { Questions } from "../shared/Questions";
import { Trouble } from "../shared/states";
import { plural, when } from "../shared/words";

/** The web addresses and databases from which deliveries are fetched. */
export function Fetches({ name }: { name: string }) {
  const client = useQueryClient();
  const known = useQuery(fetches(name));
  const done = () => refresh(client, "delivery");
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
    <Section title="Fetch deliveries from a web address or a database">
      <AddFetch name={name} />
      <Trouble error={run.error ?? end.error} />
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
            {f.in_place ? "Judge it now" : "Fetch now"}
          </Press>
          <Press needs="work" plain size="xs" h="6" onClick={() => end.mutate(f.id)}>
            End
          </Press>
        </HStack>
      ))}
    </Section>
  );
}

/** Asks where deliveries are to be fetched from: a web address, or a table or query of a database. */
function AddFetch({ name }: { name: string }) {
  const client = useQueryClient();
  const { may } = useMay("work");
  const declared = useQuery({ ...databases, enabled: may, retry: false });
  const [database, setDatabase] = useState("");
  const [address, setAddress] = useState("");
  const [asked, setAsked] = useState({ table: "", query: "", byQuery: false, inPlace: false });
  const [hours, setHours] = useState("");
  const [schema, ...table] = asked.table.split(".");
  const relation = asked.byQuery
    ? { database, in_place: asked.inPlace, query: asked.query }
    : { database, in_place: asked.inPlace, schema, table: table.join(".") };
  const foresee = useMutation({
    mutationFn: () =>
      take(api.POST("/datasets/{name}/foreseen", { params: { path: { name } }, body: relation })),
  });
  const ask = (next: Asked) => {
    setAsked(next);
    foresee.reset();
  };
  const add = useMutation({
    mutationFn: () => {
      const every_minutes = hours ? Math.round(Number(hours) * 60) : undefined;
      const from = database ? relation : { address };
      return take(
        api.POST("/datasets/{name}/fetches", {
          params: { path: { name } },
          body: { ...from, every_minutes },
        }),
      );
    },
    onSuccess: () => {
      setAddress("");
      setAsked({ ...asked, table: "", query: "" });
      return refresh(client, "delivery");
    },
  });
  return (
    <chakra.form
      onSubmit={(e: React.FormEvent) => {
        e.preventDefault();
        add.mutate();
      }}
    >
      <HStack gap="3" flexWrap="wrap" alignItems="start">
        <Choice aria-label="From where" value={database} onChange={(e) => setDatabase(e.target.value)}>
          <option value="">a web address</option>
          {declared.data?.map((d) => (
            <option key={d.id} value={d.name}>
              database {d.name}
            </option>
          ))}
        </Choice>
        {database === "" ? (
          <Field
            aria-label="Address"
            placeholder="https://…"
            type="url"
            required
            w="380px"
            value={address}
            onChange={(e) => setAddress(e.target.value)}
          />
        ) : (
          <OfDatabase key={database} database={database} asked={asked} ask={ask} />
        )}
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
          {database === "" ? "Fetch" : asked.inPlace ? "Judge it now" : "Take it now"}
        </Press>
        {database !== "" && asked.inPlace && (
          <Press
            needs="work"
            type="button"
            plain
            loading={foresee.isPending}
            disabled={!(asked.byQuery ? asked.query : asked.table).trim()}
            onClick={() => foresee.mutate()}
          >
            What would be asked?
          </Press>
        )}
        {may && (
          <Text fontSize="sm" pt="1.5">
            <Link to="/databases">Databases that are declared</Link>
          </Text>
        )}
      </HStack>
      <Trouble error={add.error ?? foresee.error} />
      {foresee.data && <Foreseen plan={foresee.data} />}
    </chakra.form>
  );
}

/** What would be asked of a table that is judged where it lies. */
function Foreseen({ plan }: { plan: Schemas["Plan"] }) {
  const rows = plural(plan.rows, "row", "rows");
  return (
    <Box fontSize="sm" mt="2" role="status">
      <Text>
        {plural(plan.questions.length, "question", "questions")} would be put to {plan.server}, by{" "}
        {plan.whole
          ? `all ${rows} of the table`
          : `the first ${rows} of the table; where the others are not like them, other questions come`}
        . Nothing is begun. {plan.notes.join(" ")}
      </Text>
      {plan.unjudged.map((rule) => (
        <Text key={rule}>Unjudged would be {rule}</Text>
      ))}
      <Questions all={plan.questions.map((q) => ({ says: q.says, sql: q.sql, tells: q.estimate }))} />
    </Box>
  );
}

type Asked = { table: string; query: string; byQuery: boolean; inPlace: boolean };

/** What is taken of a database. */
function OfDatabase(props: { database: string; asked: Asked; ask: (asked: Asked) => void }) {
  const { asked, ask } = props;
  const id = useId();
  const tables = useQuery(databaseTables(props.database));
  return (
    <>
      <Choice
        aria-label="A table or a query"
        value={asked.byQuery ? "query" : "table"}
        onChange={(e) => ask({ ...asked, byQuery: e.target.value === "query" })}
      >
        <option value="table">a table</option>
        <option value="query">what a query gives</option>
      </Choice>
      {asked.byQuery ? (
        <Writing
          aria-label="Query"
          placeholder="SELECT … in the words of the engine, with ORDER BY, so that the same rows are the same delivery"
          required
          w="480px"
          maxW="100%"
          rows={4}
          fontFamily="mono"
          value={asked.query}
          onChange={(e) => ask({ ...asked, query: e.target.value })}
        />
      ) : (
        <>
          <Field
            aria-label="Table"
            placeholder={tables.isLoading ? "looking what is there …" : "schema.table"}
            required
            pattern="[^.]+[.].+"
            title="The table with its schema, as schema.table"
            w="300px"
            list={id}
            value={asked.table}
            onChange={(e) => ask({ ...asked, table: e.target.value })}
          />
          <datalist id={id}>
            {tables.data?.map((t) => (
              <option key={`${t.schema}.${t.name}`} value={`${t.schema}.${t.name}`} />
            ))}
          </datalist>
        </>
      )}
      <Choice
        aria-label="What becomes of it"
        value={asked.inPlace ? "there" : "here"}
        onChange={(e) => ask({ ...asked, inPlace: e.target.value === "there" })}
      >
        <option value="here">take its rows as a delivery</option>
        <option value="there">judge it where it lies, and take no rows</option>
      </Choice>
      <Trouble error={tables.error} />
    </>
  );
}
