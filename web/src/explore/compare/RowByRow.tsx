import { chakra, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useSearch } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "../../client/client";
import { type RevisedKind, revisedRows, revision } from "../../client/queries";
import type { TableSearch } from "../../shared/addresses";
import { Field, Press } from "../../shared/controls";
import { Grid, right, Td, Th } from "../../shared/grid";
import { joined, split } from "../../shared/lists";
import { Section } from "../../shared/parts";
import { Shown } from "../../shared/states";
import { Value } from "../../shared/Value";
import { count, decimal, plural } from "../../shared/words";

type Table = Schemas["Table"];
type Revision = Schemas["RevisionShown"];
type Change = (what: Partial<TableSearch>) => void;

const page = 50;

/** What a revision did, row by row: by a key, what came, went and changed, cell by cell. */
export function RowByRow({ t, before, change }: { t: Table; before: Table; change: Change }) {
  const { key } = useSearch({ from: "/tables/$id" });
  const found = useQuery(revision(t.id, before.id, key));
  return (
    <Section
      title="Row by row"
      aside={
        found.data && (
          <a
            href={`/api/v1/tables/${t.id}/revision/file?with=${before.id}${(key ?? []).map((k) => `&key=${encodeURIComponent(k)}`).join("")}`}
            download
          >
            All of it, as CSV
          </a>
        )
      }
    >
      <KeyChoice key={joined(key ?? [])} now={key ?? found.data?.key ?? []} change={change} />
      <Shown query={found}>{(r) => <Revised r={r} t={t} before={before} change={change} />}</Shown>
    </Section>
  );
}

function KeyChoice({ now, change }: { now: string[]; change: Change }) {
  const [text, setText] = useState<string>();
  return (
    <HStack gap="2" mb="2">
      <Text>Rows are told apart by</Text>
      <Field
        aria-label="The columns that tell rows apart"
        placeholder="columns with commas between"
        value={text ?? joined(now)}
        onChange={(e) => setText(e.target.value)}
        w="260px"
      />
      <Press
        plain
        size="xs"
        h="8"
        disabled={text === undefined}
        onClick={() => change({ key: split(text ?? ""), offset: undefined })}
      >
        Compare by these
      </Press>
    </HStack>
  );
}

function Revised({ r, t, before, change }: { r: Revision; t: Table; before: Table; change: Change }) {
  const search = useSearch({ from: "/tables/$id" });
  const counts: Record<RevisedKind, number> = { changed: r.changed, came: r.came, went: r.went };
  const kind: RevisedKind =
    search.revised ?? (r.changed > 0 ? "changed" : r.came > 0 ? "came" : r.went > 0 ? "went" : "changed");
  const columns = r.columns.filter((c) => c.rows > 0);
  return (
    <>
      <Text role="status">
        {plural(r.same, "row is", "rows are")} the same
        {r.unkeyed > 0 &&
          `; ${plural(r.unkeyed, "row has", "rows have")} no whole key and are compared by all their cells`}
        {r.repeated > 0 &&
          `; ${plural(r.repeated, "row has a key that another one has", "rows have a key that another one has")}, and are paired in their order`}
        .{r.columns_came.length > 0 && ` New columns: ${r.columns_came.join(", ")}.`}
        {r.columns_went.length > 0 && ` Columns that are gone: ${r.columns_went.join(", ")}.`}
      </Text>
      <HStack align="start" gap="8" flexWrap="wrap" my="2">
        {columns.length > 0 && (
          <Grid label="Columns with changed cells" max="240px">
            <thead>
              <tr>
                <Th>column</Th>
                <Th {...right}>rows changed</Th>
                <Th {...right}>filled</Th>
                <Th {...right}>emptied</Th>
              </tr>
            </thead>
            <tbody>
              {columns.map((c) => (
                <tr key={c.column}>
                  <Td>{c.column}</Td>
                  <Td {...right}>{count(c.rows)}</Td>
                  <Td {...right}>{c.filled > 0 && count(c.filled)}</Td>
                  <Td {...right}>{c.emptied > 0 && count(c.emptied)}</Td>
                </tr>
              ))}
            </tbody>
          </Grid>
        )}
        {r.sums.length > 0 && (
          <Grid label="What came of sums">
            <thead>
              <tr>
                <Th>sum of</Th>
                <Th {...right}>before</Th>
                <Th {...right}>came</Th>
                <Th {...right}>went</Th>
                <Th {...right}>changed</Th>
                <Th {...right}>after</Th>
              </tr>
            </thead>
            <tbody>
              {r.sums.map((s) => (
                <tr key={s.measure}>
                  <Td>{s.measure}</Td>
                  {[s.before, s.came, s.went, s.changed, s.after].map((text, i) => (
                    // biome-ignore lint/suspicious/noArrayIndexKey: a sum is known by its place
                    <Td key={i} {...right}>
                      {decimal(text)}
                    </Td>
                  ))}
                </tr>
              ))}
            </tbody>
          </Grid>
        )}
      </HStack>
      <HStack as="nav" aria-label="Rows that differ" gap="4" mb="1">
        {(["changed", "came", "went"] as const).map((k) => (
          <chakra.button
            key={k}
            type="button"
            color="accent"
            aria-pressed={k === kind}
            fontWeight={k === kind ? "700" : "400"}
            textDecoration={k === kind ? "underline" : "none"}
            onClick={() => change({ revised: k === "changed" ? undefined : k, offset: undefined })}
          >
            {count(counts[k])} {k}
          </chakra.button>
        ))}
      </HStack>
      {counts[kind] > 0 && (
        <Rows
          t={t}
          before={before}
          kind={kind}
          of={counts[kind]}
          offset={search.offset ?? 0}
          change={change}
        />
      )}
    </>
  );
}

function Rows(props: {
  t: Table;
  before: Table;
  kind: RevisedKind;
  of: number;
  offset: number;
  change: Change;
}) {
  const { t, before, kind, offset, of, change } = props;
  const { key } = useSearch({ from: "/tables/$id" });
  const found = useQuery(revisedRows(t.id, before.id, key, kind, offset));
  return (
    <Shown query={found}>
      {(r) => (
        <>
          <Grid label={`Rows that ${kind}`} max="420px">
            <thead>
              <tr>
                <Th>key</Th>
                {kind !== "came" && <Th {...right}>row before</Th>}
                {kind !== "went" && <Th {...right}>row now</Th>}
                {kind === "changed" ? (
                  <>
                    <Th>column</Th>
                    <Th>before</Th>
                    <Th>now</Th>
                  </>
                ) : (
                  r.rows[0]?.cells.map((c) => <Th key={c.column}>{c.column}</Th>)
                )}
              </tr>
            </thead>
            <tbody>
              {r.rows.map((row) =>
                kind === "changed" ? (
                  row.cells.map((c, i) => (
                    <tr key={`${row.row_after} ${c.column}`}>
                      <Td>{i === 0 && row.key.join(" / ")}</Td>
                      <Td {...right}>{i === 0 && count(row.row_before)}</Td>
                      <Td {...right}>{i === 0 && count(row.row_after)}</Td>
                      <Td>{c.column}</Td>
                      <Td>
                        <Value text={c.before ?? ""} />
                      </Td>
                      <Td>
                        <Value text={c.after ?? ""} />
                      </Td>
                    </tr>
                  ))
                ) : (
                  <tr key={`${row.row_before} ${row.row_after}`}>
                    <Td>{row.key.join(" / ")}</Td>
                    <Td {...right}>{count(row.row_before ?? row.row_after)}</Td>
                    {row.cells.map((c) => (
                      <Td key={c.column}>
                        <Value text={c.before ?? c.after ?? ""} />
                      </Td>
                    ))}
                  </tr>
                ),
              )}
            </tbody>
          </Grid>
          <HStack gap="3" mt="1" fontSize="sm">
            <Text color="quiet">
              {count(offset + 1)} to {count(Math.min(offset + page, of))} of {count(of)}
            </Text>
            <Press
              plain
              size="xs"
              h="6"
              disabled={offset === 0}
              onClick={() => change({ offset: Math.max(0, offset - page) || undefined })}
            >
              Before these
            </Press>
            <Press
              plain
              size="xs"
              h="6"
              disabled={offset + page >= of}
              onClick={() => change({ offset: offset + page })}
            >
              The next ones
            </Press>
          </HStack>
        </>
      )}
    </Shown>
  );
}
