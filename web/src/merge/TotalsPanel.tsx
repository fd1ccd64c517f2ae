import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useId, useState } from "react";
import type { Schemas } from "../client/client";
import {
  audit,
  datasets,
  datasetTables,
  type TotalsAsked,
  table,
  totalRows,
  totals,
} from "../client/queries";
import type { TableSearch } from "../shared/addresses";
import { Choice, Field, Press } from "../shared/controls";
import { Entry } from "../shared/Entry";
import { Grid, right, Td, Th } from "../shared/grid";
import { joined, split } from "../shared/lists";
import { Section, TableLink } from "../shared/parts";
import { SaveTable } from "../shared/save";
import { Empty, Shown } from "../shared/states";
import { Value } from "../shared/Value";
import { count, decimal, originWord, plural, when } from "../shared/words";

type Table = Schemas["Table"];
type Audit = Schemas["AuditShown"];
type Reconciled = Schemas["Reconciled"];

/** The totals of a table against those of another that should agree. */
export function TotalsPanel({ t, a }: { t: Table; a: Audit }) {
  const search = useSearch({ from: "/tables/$id" });
  const navigate = useNavigate();
  const all = useQuery(datasets);
  const [dataset, setDataset] = useState<string>();
  const change = (what: Partial<TableSearch>) =>
    navigate({
      to: "/tables/$id",
      params: { id: String(t.id) },
      search: { ...search, view: "totals", group: undefined, ...what },
      replace: true,
    });
  return (
    <Shown query={all}>
      {({ items }) => (
        <>
          <Text mb="2">
            Two sources that should agree are held against one another, total by total: which agree, which
            differ, and what those that differ may have in common.
          </Text>
          <HStack gap="2" mb="2" flexWrap="wrap">
            <Text>Against</Text>
            {search.with && <Other id={search.with} />}
            <Choice
              aria-label="The dataset that it is held against"
              value={dataset ?? ""}
              onChange={(e) => setDataset(e.target.value || undefined)}
              maxW="260px"
            >
              <option value="">{search.with ? "another dataset …" : "choose a dataset …"}</option>
              {items.map((d) => (
                <option key={d.name}>{d.name}</option>
              ))}
            </Choice>
            {dataset && (
              <TableChoice
                dataset={dataset}
                but={t.id}
                choose={(id) => {
                  setDataset(undefined);
                  change({ with: id });
                }}
              />
            )}
          </HStack>
          {search.with ? (
            <Question t={t} a={a} other={search.with} search={search} change={change} />
          ) : (
            <Empty>Choose the table that this one should agree with.</Empty>
          )}
        </>
      )}
    </Shown>
  );
}

/** The table that this one is held against. */
function Other({ id }: { id: number }) {
  const known = useQuery(table(id)).data;
  return (
    <TableLink id={id}>
      {known ? `${known.dataset}, ${originWord[known.origin]} ${id}, ${known.file_name}` : `table ${id}`}
    </TableLink>
  );
}

function TableChoice(props: { dataset: string; but: number; choose: (id: number) => void }) {
  const tables = useQuery(datasetTables(props.dataset));
  return (
    <Choice
      aria-label="The table that it is held against"
      value=""
      onChange={(e) => props.choose(Number(e.target.value))}
      maxW="420px"
    >
      <option value="">choose a table …</option>
      {tables.data?.items
        .filter((o) => o.id !== props.but && o.audit_id != null)
        .map((o) => (
          <option key={o.id} value={o.id}>
            {o.file_name}, {originWord[o.origin]} {o.id}, {when(o.created_at)}
          </option>
        ))}
    </Choice>
  );
}

function Question(props: {
  t: Table;
  a: Audit;
  other: number;
  search: TableSearch;
  change: (what: Partial<TableSearch>) => void;
}) {
  const { t, a, other, search, change } = props;
  const otherTable = useQuery(table(other)).data;
  const there = useQuery({ ...audit(otherTable?.audit_id ?? 0), enabled: otherTable?.audit_id != null });
  const asked: TotalsAsked = {
    with: other,
    by: search.by,
    by_there: search.byThere,
    of: search.of,
    of_there: search.ofThere,
    where: search.where,
    where_there: search.whereThere,
    factor: search.factor,
    tolerance: search.tolerance,
    percent: search.percent,
  };
  const found = useQuery(totals(t.id, asked));
  const mine = a.result.columns.map((c) => c.name);
  const theirs = there.data?.result.columns.map((c) => c.name) ?? [];
  return (
    <>
      <Box display="grid" gridTemplateColumns="max-content minmax(0, 300px) minmax(0, 300px)" gap="2" mb="2">
        <span />
        <Text fontSize="sm" color="quiet">
          here
        </Text>
        <Text fontSize="sm" color="quiet">
          in table {other}
        </Text>
        <Row
          name="totals of"
          columns={mine}
          there={theirs}
          value={search.of ?? ""}
          valueThere={search.ofThere ?? ""}
          hint="rows, where nothing stands here"
          set={(of) => change({ of: of || undefined })}
          setThere={(ofThere) => change({ ofThere: ofThere || undefined })}
        />
        <Row
          name="by"
          columns={mine}
          there={theirs}
          value={joined(search.by ?? [])}
          valueThere={joined(search.byThere ?? [])}
          hint="columns with commas between"
          set={(by) => change({ by: listed(by) })}
          setThere={(by) => change({ byThere: listed(by) })}
        />
        <Row
          name="only where"
          columns={[]}
          there={[]}
          value={search.where ?? ""}
          valueThere={search.whereThere ?? ""}
          hint="a condition, as station <> 'ALL'"
          set={(where) => change({ where: where || undefined })}
          setThere={(whereThere) => change({ whereThere: whereThere || undefined })}
        />
      </Box>
      <HStack gap="3" mb="3" flexWrap="wrap" fontSize="sm">
        <Text>The totals there times</Text>
        <Figure label="factor" value={search.factor} hint="1" set={(factor) => change({ factor })} />
        <Text>; they may lie apart by</Text>
        <Figure
          label="tolerance"
          value={search.tolerance}
          hint="0"
          set={(tolerance) => change({ tolerance })}
        />
        <Text>or</Text>
        <Figure label="percent" value={search.percent} hint="0" set={(percent) => change({ percent })} />
        <Text>%</Text>
      </HStack>
      <Shown query={found}>
        {(r) => (
          <>
            <Text fontWeight="650" role="status">
              {plural(r.agree, "total agrees", "totals agree")}, {count(r.differ)} differ,{" "}
              {count(r.only_here)} {r.only_here === 1 ? "is" : "are"} only here and {count(r.only_there)} only
              in table {other}. The whole sum is {decimal(r.here)} here and {decimal(r.there)} there.
            </Text>
            <Causes r={r} change={change} />
            <Groups r={r} t={t} asked={asked} search={search} change={change} columns={mine} />
          </>
        )}
      </Shown>
    </>
  );
}

const listed = (text: string) => {
  const all = split(text);
  return all.length > 0 ? all : undefined;
};

/** One thing that is asked of both tables. */
function Row(props: {
  name: string;
  columns: string[];
  there: string[];
  value: string;
  valueThere: string;
  hint: string;
  set: (value: string) => void;
  setThere: (value: string) => void;
}) {
  const id = useId();
  return (
    <>
      <Text fontSize="sm" pt="1">
        {props.name}
      </Text>
      <Box>
        <Entry
          label={`${props.name}, here`}
          value={props.value}
          placeholder={props.hint}
          list={`${id}here`}
          w="full"
          set={props.set}
        />
        <datalist id={`${id}here`}>
          {props.columns.map((c) => (
            <option key={c} value={c} />
          ))}
        </datalist>
      </Box>
      <Box>
        <Entry
          label={`${props.name}, there`}
          value={props.valueThere}
          placeholder={props.name === "only where" ? "" : "the same, where nothing stands here"}
          list={`${id}there`}
          w="full"
          set={props.setThere}
        />
        <datalist id={`${id}there`}>
          {props.there.map((c) => (
            <option key={c} value={c} />
          ))}
        </datalist>
      </Box>
    </>
  );
}

function Figure(props: {
  label: string;
  value: string | undefined;
  hint: string;
  set: (value: string | undefined) => void;
}) {
  return (
    <Entry
      label={props.label}
      value={props.value ?? ""}
      placeholder={props.hint}
      inputMode="decimal"
      w="90px"
      check={(v) => (v === "" || /^\d+(\.\d+)?$/.test(v) ? undefined : "a number, as 0.5")}
      set={(v) => props.set(v || undefined)}
    />
  );
}

/** What totals that do not agree may have in common, each with what to ask instead. */
function Causes({ r, change }: { r: Reconciled; change: (what: Partial<TableSearch>) => void }) {
  return r.causes.map((c) => {
    const instead: Partial<TableSearch> = {
      ...(c.factor && { factor: c.factor }),
      ...(c.tolerance && { tolerance: c.tolerance }),
      ...(c.by && { by: c.by, byThere: c.by_there }),
      ...(c.where && { where: c.where }),
      ...(c.where_there && { whereThere: c.where_there }),
    };
    return (
      <HStack key={c.says} gap="3" my="1" align="baseline" borderLeftWidth="4px" borderColor="accent" ps="2">
        <Text>Perhaps: {c.says}</Text>
        {Object.keys(instead).length > 0 && (
          <Press plain size="xs" h="6" onClick={() => change(instead)}>
            Ask so
          </Press>
        )}
      </HStack>
    );
  });
}

function Groups(props: {
  r: Reconciled;
  t: Table;
  asked: TotalsAsked;
  search: TableSearch;
  columns: string[];
  change: (what: Partial<TableSearch>) => void;
}) {
  const { r, search, change } = props;
  const apart = r.differ + r.only_here + r.only_there;
  if (apart === 0) {
    return <Empty>All totals agree.</Empty>;
  }
  return (
    <Section
      title="Totals that do not agree"
      aside={
        <SaveTable
          name="totals"
          rows={() => [
            [...r.by, "here", "there", "apart", "rows here", "rows there"],
            ...r.groups.map((g) => [...g.key, g.here, g.there, g.apart, g.rows_here, g.rows_there]),
          ]}
        />
      }
    >
      <Grid label="Totals that do not agree" max="460px">
        <thead>
          <tr>
            {r.by.map((c) => (
              <Th key={c}>{c}</Th>
            ))}
            <Th {...right}>here</Th>
            <Th {...right}>there</Th>
            <Th {...right}>apart</Th>
            <Th {...right}>rows here</Th>
            <Th {...right}>rows there</Th>
          </tr>
        </thead>
        <tbody>
          {r.groups.map((g) => (
            <tr key={g.key.join("\u0000")}>
              {g.key.map((text, i) => (
                <Td key={r.by[i]}>
                  <Value text={text} />
                </Td>
              ))}
              <Td {...right}>{g.here == null ? "not here" : decimal(g.here)}</Td>
              <Td {...right}>{g.there == null ? "not there" : decimal(g.there)}</Td>
              <Td {...right}>
                <chakra.button
                  type="button"
                  color="accent"
                  textDecoration="underline"
                  title="Show the rows that make it up"
                  onClick={() => change({ group: g.key })}
                >
                  {decimal(g.apart)}
                </chakra.button>
              </Td>
              <Td {...right}>{count(g.rows_here)}</Td>
              <Td {...right}>{count(g.rows_there)}</Td>
            </tr>
          ))}
        </tbody>
      </Grid>
      {apart > r.groups.length && (
        <Text fontSize="sm" color="quiet">
          The {count(r.groups.length)} that lie furthest apart, of {count(apart)}.
        </Text>
      )}
      {search.group && <GroupRows {...props} group={search.group} />}
    </Section>
  );
}

/** The rows that make up the difference of a group, by a key that both tables have. */
function GroupRows(props: {
  t: Table;
  asked: TotalsAsked;
  search: TableSearch;
  columns: string[];
  group: string[];
  change: (what: Partial<TableSearch>) => void;
}) {
  const { t, asked, search, group } = props;
  const key = search.key ?? [];
  const [text, setText] = useState(joined(key));
  const found = useQuery({ ...totalRows(t.id, { ...asked, group, key }), enabled: key.length > 0 });
  return (
    <Box mt="3">
      <HStack gap="2" mb="2" flexWrap="wrap">
        <Text fontWeight="650">The rows of {group.join(", ") || "the whole"}, paired by</Text>
        <Field
          aria-label="The columns that tell rows apart"
          placeholder="columns that both tables have"
          value={text}
          onChange={(e) => setText(e.target.value)}
          w="260px"
        />
        <Press plain size="xs" h="8" onClick={() => props.change({ group, key: listed(text) })}>
          Show them
        </Press>
      </HStack>
      {key.length > 0 && (
        <Shown query={found}>
          {(r) => (
            <>
              <Text>{plural(r.same, "row is", "rows are")} the same on both sides.</Text>
              <Pairs title="with another number" of={r.differ_rows} apart={r.differ_apart} rows={r.differ} />
              <Pairs title="only here" of={r.only_here_rows} apart={r.only_here_apart} rows={r.only_here} />
              <Pairs
                title="only there"
                of={r.only_there_rows}
                apart={r.only_there_apart}
                rows={r.only_there}
              />
            </>
          )}
        </Shown>
      )}
    </Box>
  );
}

function Pairs(props: { title: string; of: number; apart: string; rows: Schemas["RowPair"][] }) {
  if (props.of === 0) {
    return null;
  }
  return (
    <Box mt="2">
      <Text fontSize="sm">
        {plural(props.of, "row", "rows")} {props.title}, which make up {decimal(props.apart)} of the
        difference
        {props.of > props.rows.length && `; the first ${count(props.rows.length)} are shown`}.
      </Text>
      <Grid label={`Rows ${props.title}`} max="300px">
        <thead>
          <tr>
            <Th>key</Th>
            <Th {...right}>row here</Th>
            <Th {...right}>row there</Th>
            <Th {...right}>here</Th>
            <Th {...right}>there</Th>
          </tr>
        </thead>
        <tbody>
          {props.rows.map((p) => (
            <tr key={`${p.row_here} ${p.row_there}`}>
              <Td>{p.key.join(" / ")}</Td>
              <Td {...right}>{p.row_here && count(p.row_here)}</Td>
              <Td {...right}>{p.row_there && count(p.row_there)}</Td>
              <Td {...right}>{p.here && decimal(p.here)}</Td>
              <Td {...right}>{p.there && decimal(p.there)}</Td>
            </tr>
          ))}
        </tbody>
      </Grid>
    </Box>
  );
}
