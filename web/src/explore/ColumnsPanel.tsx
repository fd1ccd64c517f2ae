import { HStack, Text } from "@chakra-ui/react";
import { useNavigate, useSearch } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { Choice, Field } from "../shared/controls";
import { Grid, right, Th } from "../shared/grid";
import { useGrowing } from "../shared/growing";
import { Legend } from "../shared/Mesh";
import { SortHead } from "../shared/SortHead";
import { SaveTable } from "../shared/save";
import { Empty } from "../shared/states";
import { Term } from "../shared/Term";
import { count, percent, plural } from "../shared/words";
import { ColumnRow } from "./ColumnRow";
import { Leads } from "./Leads";
import { MissingTogether } from "./MissingTogether";

type Table = Schemas["Table"];
type Audit = Schemas["AuditShown"];
type Column = Schemas["Column"];

/** By what columns are put into order. */
const orders: Record<string, (a: Column, b: Column) => number> = {
  name: (a, b) => a.name.localeCompare(b.name),
  kind: (a, b) => a.role.localeCompare(b.role) || a.type.localeCompare(b.type),
  missing: (a, b) => a.missing - b.missing,
  score: (a, b) => a.score - b.score,
  distinct: (a, b) => a.distinct - b.distinct,
};

/** Which columns are worth a look, by a word of the address. */
const choices: Record<string, { label: string; holds: (c: Column, odd: Set<string>) => boolean }> = {
  missing: { label: "with something missing", holds: (c) => c.missing > 0 },
  faults: { label: "that lost points", holds: (c) => c.score < 100 },
  odd: { label: "that look odd", holds: (c, odd) => odd.has(c.name) },
};

/** From how many columns on one is looked for by its name. */
const many = 12;

/** The columns of a table as one scannable list: what each is, where it misses, how its values lie. */
export function ColumnsPanel({ t, a }: { t: Table; a: Audit }) {
  const r = a.result;
  const search = useSearch({ from: "/tables/$id" });
  const navigate = useNavigate();
  const go = (to: Partial<typeof search>) =>
    navigate({
      to: "/tables/$id",
      params: { id: String(t.id) },
      search: { ...search, ...to },
      replace: true,
    });
  const shown = chosenColumns(r, search);
  const judged = r.passed != null;
  const first = shown[0];
  const drawn = useGrowing(shown);
  const ordered = !r.there; // rows of a database have no order, so that nothing lies anywhere in it
  const head = { by: search.sort, falling: search.falling, sort: go };
  return (
    <>
      {!judged && <Leads t={t} a={a} />}
      <HStack justify="space-between" flexWrap="wrap" mb="1" mt={judged ? "0" : "4"}>
        <Summary a={a} />
        <HStack gap="4">
          <Legend />
          <SaveTable name={`${t.dataset} columns`} rows={() => columnRows(r)} />
        </HStack>
      </HStack>
      {r.columns.length >= many && (
        <HStack gap="3" mb="1" flexWrap="wrap">
          <Field
            type="search"
            aria-label="Find a column"
            placeholder={`find among ${count(r.columns.length)} columns`}
            w="220px"
            value={search.find ?? ""}
            onChange={(e) => go({ find: e.target.value || undefined })}
          />
          <Choice
            aria-label="Which columns"
            value={search.show ?? ""}
            onChange={(e) => go({ show: e.target.value || undefined })}
          >
            <option value="">all columns</option>
            {Object.entries(choices).map(([name, c]) => (
              <option key={name} value={name}>
                {c.label}
              </option>
            ))}
          </Choice>
          {shown.length < r.columns.length && (
            <Text fontSize="sm" color="quiet" role="status">
              {count(shown.length)} of {plural(r.columns.length, "column", "columns")}
            </Text>
          )}
        </HStack>
      )}
      <Grid
        label="Columns"
        max={r.leads.length > 0 && judged ? "calc(100vh - 360px)" : "calc(100vh - 265px)"}
      >
        <thead>
          <tr>
            <SortHead name="name" {...head} left="0" zIndex="2">
              column
            </SortHead>
            <SortHead
              name="kind"
              {...head}
              help={
                <Term
                  of="what it is"
                  example={first && `${first.name} is a ${first.role} of the type ${first.type}.`}
                  bare
                />
              }
            >
              what it is
            </SortHead>
            <Th>picture</Th>
            <SortHead
              name="missing"
              {...head}
              {...right}
              help={
                <Term
                  of="missing"
                  example={first && `${first.name} lacks ${count(first.missing)} of ${count(r.rows)}.`}
                  bare
                />
              }
            >
              missing
            </SortHead>
            {ordered && <Th>where</Th>}
            <SortHead
              name="score"
              {...head}
              {...right}
              help={
                <Term
                  of="score"
                  example={
                    first &&
                    `of 100 cells of ${first.name}, ${percent(first.score)} have nothing wrong with them.`
                  }
                  bare
                />
              }
            >
              score
            </SortHead>
            {ordered && (
              <Th>
                <Term
                  of="mesh"
                  example={`each cell stands for ${plural(Math.max(Math.round(r.rows / Math.max(r.mesh.cells, 1)), 1), "row", "rows")}.`}
                >
                  mesh, first row to last
                </Term>
              </Th>
            )}
            <SortHead
              name="distinct"
              {...head}
              {...right}
              help={
                <Term
                  of="distinct"
                  example={
                    first &&
                    `${first.name} has ${count(first.distinct)} in ${count(first.filled)} filled cells.`
                  }
                  bare
                />
              }
            >
              distinct
            </SortHead>
            <Th>from</Th>
            <Th>to</Th>
            <Th {...right}>mean</Th>
            <Th>most frequent</Th>
          </tr>
        </thead>
        <tbody>
          {drawn.map((c) => (
            <ColumnRow key={c.name} t={t} a={a} c={c} />
          ))}
        </tbody>
      </Grid>
      {shown.length === 0 && <Empty>No column is so. Show all columns, or look for another name.</Empty>}
      {judged && <Leads t={t} a={a} />}
      <MissingTogether r={r} />
    </>
  );
}

/** The columns that an address chooses, in its order; those of the file where it names none. */
function chosenColumns(
  r: Schemas["Result"],
  asked: { find?: string; show?: string; sort?: string; falling?: boolean },
): Column[] {
  const odd = new Set(r.leads.map((l) => l.column));
  const find = asked.find?.toLowerCase() ?? "";
  const chosen = r.columns.filter(
    (c) => c.name.toLowerCase().includes(find) && (choices[asked.show ?? ""]?.holds(c, odd) ?? true),
  );
  const order = orders[asked.sort ?? ""];
  return order ? chosen.sort((a, b) => (asked.falling ? order(b, a) : order(a, b))) : chosen;
}

function columnRows(r: Schemas["Result"]) {
  return [
    ["column", "what it is", "type", "filled", "missing", "distinct", "from", "to", "sum", "mean", "score"],
    ...r.columns.map((c) => [
      c.name,
      c.role,
      c.type,
      c.filled,
      c.missing,
      c.distinct,
      c.lowest,
      c.highest,
      c.sum,
      c.mean,
      c.score,
    ]),
  ];
}

function Summary({ a }: { a: Audit }) {
  const r = a.result;
  return (
    <Text>
      {plural(r.records, "record", "records")}: {plural(r.rows, "row", "rows")} and{" "}
      {plural(r.set_aside, "line", "lines")} set aside
      {r.defect_count > 0 && `, ${plural(r.defect_count, "defect", "defects")} in the bytes`}.{" "}
      {a.rulebook
        ? `Judged by rulebook version ${a.rulebook}: ${percent(r.score)}, pass mark ${percent(r.pass_mark)}.`
        : "The dataset has no rulebook, so nothing is judged but the types."}
      {Object.entries(r.renamed ?? {}).map(
        ([name, was]) => ` ${name} stands as ${was} in the file, a name that it had before.`,
      )}
    </Text>
  );
}
