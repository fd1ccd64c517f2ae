import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useId, useState } from "react";
import type { Schemas } from "../client/client";
import { checkedText, meeting, mergeOutlined } from "../client/queries";
import { Choice, Field, Press } from "../shared/controls";
import { Entry } from "../shared/Entry";
import { FormFields, PairLines, textsOf } from "../shared/FormFields";
import { Shown } from "../shared/states";
import { count, plural } from "../shared/words";

type Outlined = Schemas["MergeOutlined"];
type Join = Outlined["outline"]["steps"][number];
type Change = Schemas["StepChange"];
type Given = Schemas["Field"];
type Form = Schemas["FieldForm"];

/** A merge as forms: what is stacked, and each join. */
export function MergeForms({ source, change }: { source: string; change: (c: Change) => void }) {
  const known = useQuery(mergeOutlined(source));
  const problems = useQuery(checkedText("merges", source)).data?.problems ?? [];
  return <Shown query={known}>{(o) => <Parts o={o} problems={problems} change={change} />}</Shown>;
}

function Parts(props: { o: Outlined; problems: Schemas["Problem"][]; change: (c: Change) => void }) {
  const { o, change } = props;
  const joins = o.outline.steps;
  const own = o.forms.find((f) => f.name === "merge")?.form ?? [];
  const given = (name: string) => o.outline.head.find((f) => f.name === name);
  const set = (field: Given) => change({ step: 0, field });
  const stacked = textsOf(given("stack"));
  const free = o.datasets.filter((d) => !stacked.includes(d) && !joins.some((j) => j.name === d));
  const first = joins[0]?.line ?? Number.POSITIVE_INFINITY;
  return (
    <Box>
      <Mistakes of={props.problems.filter((p) => p.line < first)} />
      <FormFields
        forms={own
          .filter((f) => usual.includes(f.name))
          .map((f) => (f.name === "stack" ? { ...f, kind: "columns" } : f))}
        fields={o.outline.head}
        columns={() => [...stacked, ...free]}
        set={set}
        instead={(f, given) =>
          f.name === "tables" ? <Tables stacked={stacked} given={given} set={set} /> : undefined
        }
      />
      <Meets o={o} stacked={stacked} set={set} />
      <chakra.details my="1" open={own.some((f) => !usual.includes(f.name) && given(f.name))}>
        <chakra.summary cursor="pointer" fontSize="sm" color="accent">
          More of the stack: its key, what contradicts, grain, where rows are from
        </chakra.summary>
        <FormFields
          forms={own.filter((f) => !usual.includes(f.name))}
          fields={o.outline.head}
          columns={() => []}
          set={set}
        />
      </chakra.details>
      {stacked
        .filter((d) => o.columns[d]?.length === 0)
        .map((d) => (
          <NothingCleaned key={d} dataset={d} />
        ))}
      {joins.map((j, i) => (
        <JoinForm
          // biome-ignore lint/suspicious/noArrayIndexKey: a join is known by its place
          key={i}
          n={i + 1}
          o={o}
          join={j}
          before={[...new Set([...stacked.flatMap((d) => o.columns[d] ?? []), ...takenBefore(joins, i)])]}
          problems={props.problems.filter(
            (p) => p.line >= j.line && p.line < (joins[i + 1]?.line ?? Number.POSITIVE_INFINITY),
          )}
          change={change}
        />
      ))}
      <HStack mt="2">
        <Choice
          aria-label="Add a join"
          value=""
          onChange={(e) =>
            change({
              step: 0,
              add: [
                { name: "with", value: e.target.value },
                { name: "match", values: [] },
                { name: "take", values: [] },
              ],
            })
          }
        >
          <option value="">add a join with …</option>
          {free.map((d) => (
            <option key={d}>{d}</option>
          ))}
        </Choice>
      </HStack>
    </Box>
  );
}

/** The fields of the merge itself that nearly everybody fills in. */
const usual = ["merge", "title", "stack", "tables"];

/** Which tables of each stacked dataset take part. */
function Tables(props: { stacked: string[]; given: Given | undefined; set: (field: Given) => void }) {
  const pairs = props.given?.pairs ?? [];
  return (
    <Box>
      {props.stacked.length === 0 && (
        <Text fontSize="sm" color="quiet" pt="1">
          the newest of each
        </Text>
      )}
      {props.stacked.map((d) => (
        <HStack key={d} gap="2" mb="1">
          <Text fontSize="sm" w="45%" truncate title={d}>
            {d}
          </Text>
          <Entry
            label={`tables of ${d}`}
            value={pairs.find((p) => p.name === d)?.text ?? ""}
            placeholder="the newest; or all, last 3, …"
            w="55%"
            set={(text) => {
              const next = [...pairs.filter((p) => p.name !== d), ...(text ? [{ name: d, text }] : [])];
              props.set({ name: "tables", pairs: next.length > 0 ? next : undefined });
            }}
          />
        </HStack>
      ))}
    </Box>
  );
}

/** Columns that may be one though they are called otherwise, with what speaks for it: each is taken by a press. */
function Meets(props: { o: Outlined; stacked: string[]; set: (field: Given) => void }) {
  const { o, stacked, set } = props;
  const pairs = o.outline.head.find((f) => f.name === "columns")?.pairs ?? [];
  return stacked.flatMap((d) =>
    (o.meets[d] ?? []).map((m) => (
      <HStack key={`${d} ${m.column}`} gap="2" my="1" align="baseline" fontSize="sm">
        <Text flex="1">
          <b>{m.column}</b> of {d} may be <b>{m.as}</b>: {m.says}.
        </Text>
        <Press
          plain
          size="xs"
          h="6"
          onClick={() =>
            set({ name: "columns", pairs: [...pairs, { name: `${d}.${m.column}`, text: m.as }] })
          }
        >
          It is
        </Press>
      </HStack>
    )),
  );
}

/** The columns that the joins before one take. */
const takenBefore = (joins: Join[], at: number) =>
  joins.slice(0, at).flatMap((j) => textsOf(j.fields.find((f) => f.name === "take")));

function Mistakes({ of }: { of: Schemas["Problem"][] }) {
  return of.map((p) => (
    <Text key={p.message} role="alert" fontSize="sm" color="validity">
      {p.message}
    </Text>
  ));
}

function NothingCleaned({ dataset }: { dataset: string }) {
  return (
    <Text fontSize="sm" color="validity">
      Nothing of{" "}
      <Link to="/datasets/$name" params={{ name: dataset }}>
        {dataset}
      </Link>{" "}
      is cleaned yet: apply a fix plan to its newest delivery first.
    </Text>
  );
}

function JoinForm(props: {
  n: number;
  o: Outlined;
  join: Join;
  before: string[];
  problems: Schemas["Problem"][];
  change: (c: Change) => void;
}) {
  const { n, o, join, before, change } = props;
  const there = o.columns[join.name] ?? [];
  const forms = (o.forms.find((f) => f.name === "join")?.form ?? []).filter((f) => f.name !== "with");
  const kinds: Record<string, Form["kind"]> = { take: "columns", by: "column" };
  const set = (field: Given) => change({ step: n, field });
  return (
    <Box
      as="section"
      aria-label={`Join with ${join.name}`}
      mt="3"
      ps="3"
      borderLeftWidth="3px"
      borderColor="accent"
    >
      <HStack justify="space-between">
        <Text fontWeight="650">Join with {join.name}</Text>
        <Press
          plain
          size="xs"
          h="6"
          aria-label={`Take the join with ${join.name} out`}
          onClick={() => change({ step: n, remove: true })}
        >
          Take it out
        </Press>
      </HStack>
      <Mistakes of={props.problems} />
      {there.length === 0 ? (
        <NothingCleaned dataset={join.name} />
      ) : (
        props.problems.length === 0 && (
          <Meeting source={o.source} n={n} other={join.name} so={(pairs) => set({ name: "match", pairs })} />
        )
      )}
      <FormFields
        forms={forms.map((f) => ({ ...f, kind: kinds[f.name] ?? f.kind }))}
        fields={join.fields}
        columns={() => there}
        set={set}
        instead={(f, given) =>
          f.name === "match" ? (
            <Match
              f={f}
              given={given}
              before={before}
              there={there}
              other={join.name}
              meets={o.meets[join.name] ?? []}
              set={set}
            />
          ) : undefined
        }
      />
    </Box>
  );
}

/** How many rows meet as the join stands, and what would have others meet. */
function Meeting(props: { source: string; n: number; other: string; so: (pairs: Pair[]) => void }) {
  const found = useQuery(meeting(props.source, props.n));
  const m = found.data;
  if (!m) {
    return null; // what is wrong with it is told where it is
  }
  return (
    <Box fontSize="sm" my="1" role="status" opacity={found.isPlaceholderData ? 0.5 : 1}>
      {m.large ? (
        <Text color="quiet">The tables are large; a look at what it would do says how many rows meet.</Text>
      ) : (
        <Text fontWeight="600">
          {count(m.matched)} of {plural(m.rows, "row meets", "rows meet")} a row of {props.other}
          {m.blank > 0 && `; ${count(m.blank)} have nothing in a part of their key`}.
        </Text>
      )}
      {m.one_in > 1 && (
        <Text color="quiet">
          A sample: one stretch of rows in {m.one_in}. A look at what it would do counts all, and says why
          others do not meet.
        </Text>
      )}
      {m.why.map((w) => (
        <HStack key={w.levelling} gap="2" align="baseline">
          <Text flex="1">{w.says}</Text>
          {w.left && w.right && (
            <Press
              plain
              size="xs"
              h="6"
              onClick={() =>
                props.so((w.left ?? []).map((name, i) => ({ name, text: w.right?.[i] ?? name })))
              }
            >
              Match these
            </Press>
          )}
        </HStack>
      ))}
    </Box>
  );
}

type Pair = Schemas["Pair"];

/** What must be equal on both sides: columns, or what is worked out of them. */
function Match(props: {
  f: Form;
  given: Given | undefined;
  before: string[];
  there: string[];
  other: string;
  meets: Schemas["Suggestion"][];
  set: (field: Given) => void;
}) {
  const { f, given, before, there, other } = props;
  const id = useId();
  const [left, setLeft] = useState("");
  const [right, setRight] = useState("");
  const pairs: Pair[] = given?.pairs ?? textsOf(given).map((c) => ({ name: c, text: c }));
  // Columns of the same name are written as a list of names.
  const put = (next: Pair[]) =>
    props.set(
      next.every((p) => p.name === p.text)
        ? { name: f.name, values: next.map((p) => p.name) }
        : { name: f.name, pairs: next },
    );
  const add = (pair: Pair) => {
    put([...pairs.filter((p) => p.name !== pair.name), pair]);
    setLeft("");
    setRight("");
  };
  const offered = [
    ...props.meets.map((m) => ({ name: m.as, text: m.column, says: m.says })),
    ...before
      .filter((c) => there.includes(c) && !props.meets.some((m) => m.as === c && m.column === c))
      .map((c) => ({ name: c, text: c, says: "" })),
  ];
  return (
    <Box>
      <PairLines pairs={pairs} put={put} says={(p) => `${p.name} = ${p.text} of ${other}`} />
      {pairs.length === 0 &&
        offered.map((c) => (
          <chakra.button
            key={`${c.name} ${c.text}`}
            type="button"
            display="block"
            textAlign="left"
            fontSize="sm"
            color="accent"
            textDecoration="underline"
            onClick={() => add({ name: c.name, text: c.text })}
          >
            {c.name === c.text ? `${c.name} on both sides` : `${c.name} = ${c.text} of ${other}`}
            {c.says && `: ${c.says}`}
          </chakra.button>
        ))}
      <HStack gap="1">
        <Field
          aria-label="match: a column of the rows so far"
          placeholder="column so far"
          list={`${id}left`}
          w="50%"
          value={left}
          onChange={(e) => {
            setLeft(e.target.value);
            if (there.includes(e.target.value)) {
              setRight(e.target.value);
            }
          }}
        />
        <Field
          aria-label={`match: what it equals of ${other}`}
          placeholder="column there"
          list={`${id}right`}
          w="50%"
          value={right}
          onChange={(e) => setRight(e.target.value)}
        />
        <Press
          plain
          size="xs"
          h="8"
          aria-label="match: add it"
          disabled={left === "" || right === ""}
          onClick={() => add({ name: left, text: right })}
        >
          Add
        </Press>
      </HStack>
      <Offered id={`${id}left`} columns={before} />
      <Offered id={`${id}right`} columns={there} />
    </Box>
  );
}

function Offered({ id, columns }: { id: string; columns: string[] }) {
  return (
    <datalist id={id}>
      {columns.map((c) => (
        <option key={c} value={c} />
      ))}
    </datalist>
  );
}
