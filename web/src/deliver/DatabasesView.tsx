import { chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { databases, databaseTables, engines, me } from "../client/queries";
import { Choice, Field, Press } from "../shared/controls";
import { Grid, right, Td, Th, Unseen } from "../shared/grid";
import { Section, Title } from "../shared/parts";
import { Empty, Shown, Trouble } from "../shared/states";
import { said } from "../shared/toasts";
import { count, plural } from "../shared/words";
import { CredentialsSection } from "./CredentialsSection";

/** The databases from which deliveries are taken. */
export function DatabasesView() {
  const all = useQuery(databases);
  const who = useQuery(me);
  const administers = who.data?.rights.includes("administer") ?? false;
  const [looked, look] = useState<string>();
  return (
    <>
      <Title>Databases</Title>
      <Text color="quiet" mb="3" maxW="760px">
        Tables, and what queries give, are taken from these as deliveries: as of one moment, and without
        writing anything there. On the page of a dataset is where to take one.
      </Text>
      <Shown query={all}>
        {(found) =>
          found.length === 0 ? (
            <Empty>
              No database is declared.{" "}
              {administers ? "Declare one below." : "An administrator can declare one."}
            </Empty>
          ) : (
            <DatabaseGrid databases={found} administers={administers} look={look} />
          )
        }
      </Shown>
      {looked && <TablesSection key={looked} name={looked} />}
      {administers && <DeclareDatabase />}
      {administers && <CredentialsSection />}
    </>
  );
}

function DatabaseGrid(props: {
  databases: Schemas["Database"][];
  administers: boolean;
  look: (name: string | undefined) => void;
}) {
  const client = useQueryClient();
  const kinds = useQuery(engines);
  const trial = useMutation({
    mutationFn: (name: string) => take(api.POST("/databases/{name}/trial", { params: { path: { name } } })),
  });
  const remove = useMutation({
    mutationFn: (name: string) => take(api.DELETE("/databases/{name}", { params: { path: { name } } })),
    onSuccess: (_, name) => {
      said(`Nothing more is taken from ${name}.`);
      props.look(undefined);
      return client.invalidateQueries({ queryKey: ["databases"] });
    },
  });
  const titleOf = (engine: string) => kinds.data?.find((k) => k.name === engine)?.title ?? engine;
  return (
    <>
      <Grid label="Databases">
        <thead>
          <tr>
            <Th>name</Th>
            <Th>engine</Th>
            <Th>where</Th>
            <Th>database</Th>
            <Th>read as</Th>
            <Th>password</Th>
            <Th>at most</Th>
            <Unseen>what can be done</Unseen>
          </tr>
        </thead>
        <tbody>
          {props.databases.map((d) => (
            <tr key={d.id}>
              <Td fontWeight="600">{d.name}</Td>
              <Td>{titleOf(d.engine)}</Td>
              <Td overflowWrap="anywhere">
                {d.host}:{d.port}
                {d.tls && ", by TLS"}
              </Td>
              <Td overflowWrap="anywhere">{d.database}</Td>
              <Td overflowWrap="anywhere">{d.login}</Td>
              <Td overflowWrap="anywhere">{d.secret ? `secret ${d.secret}` : "none"}</Td>
              <Td>{atMost(d)}</Td>
              <Td>
                <HStack gap="2">
                  <Press
                    plain
                    size="xs"
                    h="6"
                    aria-label={`Try ${d.name}`}
                    onClick={() => trial.mutate(d.name)}
                  >
                    Try it
                  </Press>
                  <Press
                    plain
                    size="xs"
                    h="6"
                    aria-label={`Tables of ${d.name}`}
                    onClick={() => props.look(d.name)}
                  >
                    Tables
                  </Press>
                  {props.administers && (
                    <Press
                      plain
                      size="xs"
                      h="6"
                      aria-label={`Remove ${d.name}`}
                      onClick={() => remove.mutate(d.name)}
                    >
                      Remove
                    </Press>
                  )}
                </HStack>
              </Td>
            </tr>
          ))}
        </tbody>
      </Grid>
      {trial.data && (
        <Text role="status" mt="2">
          {trial.data.says}
        </Text>
      )}
      <Trouble error={trial.error ?? remove.error} />
    </>
  );
}

const atMost = (d: Schemas["Database"]) =>
  [
    plural(d.timeout_minutes, "minute", "minutes"),
    d.audit_minutes > 0 && `${plural(d.audit_minutes, "minute", "minutes")} per audit`,
    d.row_limit > 0 && plural(d.row_limit, "row", "rows"),
    d.byte_limit > 0 && plural(d.byte_limit, "byte", "bytes"),
  ]
    .filter(Boolean)
    .join(", ");

/** What can be taken from a database. */
function TablesSection({ name }: { name: string }) {
  const all = useQuery(databaseTables(name));
  const [part, setPart] = useState("");
  return (
    <Section title={`Tables of ${name}`}>
      <Shown query={all}>
        {(found) => {
          const shown = found.filter((t) => `${t.schema}.${t.name}`.includes(part));
          return found.length === 0 ? (
            <Empty>Nothing in it can be read by its user.</Empty>
          ) : (
            <>
              <HStack gap="3" mb="2">
                <Field
                  aria-label="Only tables whose names have"
                  placeholder="part of a name"
                  value={part}
                  onChange={(e) => setPart(e.target.value)}
                />
                <Text role="status" color="quiet" fontSize="sm">
                  {count(shown.length)} of {plural(found.length, "table", "tables")}
                </Text>
              </HStack>
              <Grid label={`Tables of ${name}`} max="420px">
                <thead>
                  <tr>
                    <Th>table</Th>
                    <Th>kind</Th>
                    <Th {...right}>rows, about</Th>
                  </tr>
                </thead>
                <tbody>
                  {shown.map((t) => (
                    <tr key={`${t.schema}.${t.name}`}>
                      <Td overflowWrap="anywhere">
                        {t.schema}.{t.name}
                      </Td>
                      <Td>{t.view ? "view" : "table"}</Td>
                      <Td {...right}>{t.rows >= 0 ? count(t.rows) : "not told"}</Td>
                    </tr>
                  ))}
                </tbody>
              </Grid>
            </>
          );
        }}
      </Shown>
    </Section>
  );
}

const nothing = {
  name: "",
  engine: "",
  host: "",
  port: "",
  database: "",
  login: "",
  secret: "",
  minutes: "",
  audit: "",
  rows: "",
  bytes: "",
};

/** The fields of a database, in the order in which they are asked for. */
const fields: {
  name: keyof typeof nothing;
  label: string;
  hint: string;
  needed?: boolean;
  number?: boolean;
}[] = [
  { name: "name", label: "Name", hint: "as stewards call it: small letters, digits, - and _", needed: true },
  { name: "host", label: "Host", hint: "where its server is", needed: true },
  { name: "port", label: "Port", hint: "the engine's own where it is left empty", number: true },
  { name: "database", label: "Database", hint: "the name that the server knows it by", needed: true },
  {
    name: "login",
    label: "Read as",
    hint: "a user who may read what stewards are to see, and do nothing else",
    needed: true,
  },
  {
    name: "secret",
    label: "Name of the password",
    hint: "each node has it in the folder secrets of its data, in a file of that name and mode 0600, or in the environment as PROUDSIEVE_SECRET_ and that name",
  },
  { name: "minutes", label: "Minutes for a statement", hint: "30 where it is left empty", number: true },
  {
    name: "audit",
    label: "Minutes for an audit",
    hint: "for all questions about a table that is judged where it lies; no end where it is left empty",
    number: true,
  },
  { name: "rows", label: "Rows at most", hint: "no limit where it is left empty", number: true },
  {
    name: "bytes",
    label: "Bytes at most",
    hint: "the service's own limit where it is left empty",
    number: true,
  },
];

function DeclareDatabase() {
  const client = useQueryClient();
  const kinds = useQuery(engines);
  const [d, set] = useState(nothing);
  const [tls, setTLS] = useState(false);
  const engine = d.engine || (kinds.data?.[0]?.name ?? "");
  const whole = (text: string) => (text ? Math.round(Number(text)) : undefined);
  const add = useMutation({
    mutationFn: () =>
      take(
        api.POST("/databases", {
          body: {
            name: d.name.trim(),
            engine,
            host: d.host.trim(),
            port: whole(d.port),
            database: d.database.trim(),
            login: d.login.trim(),
            secret: d.secret.trim() || undefined,
            tls,
            timeout_minutes: whole(d.minutes),
            audit_minutes: whole(d.audit),
            row_limit: whole(d.rows),
            byte_limit: whole(d.bytes),
          },
        }),
      ),
    onSuccess: (made) => {
      set(nothing);
      said(`Database ${made.name} is declared. Try whether it can be reached.`);
      return client.invalidateQueries({ queryKey: ["databases"] });
    },
  });
  return (
    <Section title="Declare a database">
      <chakra.form
        maxW="900px"
        onSubmit={(e: React.FormEvent) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <chakra.div display="grid" gridTemplateColumns="max-content 260px 1fr" gap="2" alignItems="center">
          <chakra.label htmlFor="database-engine">Engine</chakra.label>
          <Choice id="database-engine" value={engine} onChange={(e) => set({ ...d, engine: e.target.value })}>
            {kinds.data?.map((k) => (
              <option key={k.name} value={k.name}>
                {k.title}
              </option>
            ))}
          </Choice>
          <span />
          {fields.map((f) => (
            <chakra.div key={f.name} display="contents">
              <chakra.label htmlFor={`database-${f.name}`}>{f.label}</chakra.label>
              <Field
                id={`database-${f.name}`}
                aria-describedby={`database-${f.name}-hint`}
                w="full"
                required={f.needed}
                type={f.number ? "number" : "text"}
                min={f.number ? 1 : undefined}
                autoComplete="off"
                value={d[f.name]}
                onChange={(e) => set({ ...d, [f.name]: e.target.value })}
              />
              <Text id={`database-${f.name}-hint`} color="quiet" fontSize="sm">
                {f.hint}
              </Text>
            </chakra.div>
          ))}
        </chakra.div>
        <HStack gap="4" mt="3">
          <chakra.label display="flex" gap="2" alignItems="center">
            <input type="checkbox" checked={tls} onChange={(e) => setTLS(e.target.checked)} />
            The server must prove who it is (TLS)
          </chakra.label>
          <Press type="submit" needs="administer" loading={add.isPending}>
            Declare it
          </Press>
        </HStack>
      </chakra.form>
      <Trouble error={add.error} />
    </Section>
  );
}
