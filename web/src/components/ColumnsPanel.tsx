import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useEffect } from "react";
import type { Dimension, Schemas } from "../api/client";
import { count, decimal, dimensions, glance, percent, plural } from "../words";
import { Legend, Mesh } from "./Mesh";
import { Empty, Grid, right, Section, Td, Th, Value } from "./parts";

type Table = Schemas["Table"];
type Audit = Schemas["AuditShown"];
type Column = Schemas["Column"];

/** The columns of a table as one scannable list, and one of them opened beside it. */
export function ColumnsPanel({ t, a }: { t: Table; a: Audit }) {
  const { column } = useSearch({ from: "/tables/$id" });
  const r = a.result;
  const opened = r.columns.find((c) => c.name === column);
  return (
    <>
      <HStack justify="space-between" flexWrap="wrap" mb="1">
        <Summary a={a} />
        <Legend />
      </HStack>
      <Box display="grid" gridTemplateColumns={opened ? "minmax(0, 1fr) 380px" : "minmax(0, 1fr)"} gap="4">
        <Grid label="Columns" max="calc(100vh - 265px)">
          <thead>
            <tr>
              <Th left="0" zIndex="2">
                column
              </Th>
              <Th>type</Th>
              <Th>mesh, first row to last</Th>
              <Th {...right}>score</Th>
              {!opened && (
                <>
                  <Th {...right}>filled</Th>
                  <Th {...right}>missing</Th>
                  <Th {...right}>distinct</Th>
                  <Th>lowest</Th>
                  <Th>highest</Th>
                  <Th {...right}>mean</Th>
                  <Th>most frequent</Th>
                </>
              )}
            </tr>
          </thead>
          <tbody>
            {r.columns.map((c) => (
              <Row key={c.name} t={t} a={a} c={c} wide={!opened} open={c.name === column} />
            ))}
          </tbody>
        </Grid>
        {opened && <Opened t={t} a={a} c={opened} />}
      </Box>
    </>
  );
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
    </Text>
  );
}

function useShowRows(t: Table) {
  const navigate = useNavigate();
  return (column: string, dimension: Dimension, firstRow: number) =>
    navigate({
      to: "/tables/$id",
      params: { id: String(t.id) },
      search: { view: "rows", column, dimension, after: firstRow - 1 || undefined },
    });
}

function Row({ t, a, c, wide, open }: { t: Table; a: Audit; c: Column; wide: boolean; open: boolean }) {
  const showRows = useShowRows(t);
  const frequent = c.frequent[0];
  return (
    <tr aria-current={open ? "true" : undefined}>
      <Td
        position="sticky"
        left="0"
        fontWeight={open ? "700" : undefined}
        maxW="220px"
        overflow="hidden"
        textOverflow="ellipsis"
        title={c.name}
      >
        <Link
          to="/tables/$id"
          params={{ id: String(t.id) }}
          search={{ view: "columns", column: open ? undefined : c.name }}
          aria-expanded={open}
        >
          {c.name}
        </Link>
      </Td>
      <Td color="quiet">{c.type}</Td>
      <Td>
        <Mesh
          mesh={c.mesh}
          rows={a.result.rows}
          name={c.name}
          onPress={(first, dimension) => showRows(c.name, dimension, first)}
        />
      </Td>
      <Td {...right} fontWeight={c.score < 100 ? "650" : "400"}>
        {percent(c.score)}
      </Td>
      {wide && (
        <>
          <Td {...right}>{count(c.filled)}</Td>
          <Td {...right}>{count(c.missing)}</Td>
          <Td
            {...right}
            title={
              c.distinct_error
                ? `Estimated, with a standard error of ${percent(100 * c.distinct_error)}%`
                : undefined
            }
          >
            {c.distinct_error ? "≈ " : ""}
            {count(c.distinct)}
          </Td>
          <Td maxW="120px" overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap" title={c.lowest}>
            {c.lowest && <Value text={c.lowest} />}
          </Td>
          <Td maxW="120px" overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap" title={c.highest}>
            {c.highest && <Value text={c.highest} />}
          </Td>
          <Td {...right}>{glance(c.mean)}</Td>
          <Td maxW="190px" overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap">
            {frequent && c.distinct < c.filled && (
              <>
                <Value text={frequent.text} />{" "}
                <chakra.span color="quiet">×{count(frequent.rows)}</chakra.span>
              </>
            )}
          </Td>
        </>
      )}
    </tr>
  );
}

/** One column opened: what it scores, what cost it, what it holds. */
function Opened({ t, a, c }: { t: Table; a: Audit; c: Column }) {
  const navigate = useNavigate();
  useEffect(() => {
    const close = (e: KeyboardEvent) => {
      if (e.key === "Escape") {
        navigate({ to: "/tables/$id", params: { id: String(t.id) }, search: { view: "columns" } });
      }
    };
    addEventListener("keydown", close);
    return () => removeEventListener("keydown", close);
  }, [navigate, t.id]);
  const costs = a.result.findings.filter((f) => f.columns.includes(c.name));
  return (
    <Box
      as="aside"
      aria-label={`Column ${c.name}`}
      borderLeftWidth="1px"
      borderColor="line"
      pl="4"
      maxH="calc(100vh - 265px)"
      overflowY="auto"
    >
      <HStack justify="space-between">
        <chakra.h2 fontSize="lg" fontWeight="650">
          {c.name}
        </chakra.h2>
        <Link to="/tables/$id" params={{ id: String(t.id) }} search={{ view: "columns" }}>
          close
        </Link>
      </HStack>
      <Text>
        <chakra.span fontWeight="650" fontSize="lg">
          {percent(c.score)}
        </chakra.span>{" "}
        of 100
      </Text>
      <chakra.table w="full" fontSize="sm" mt="1">
        <tbody>
          {dimensions.map((d) => (
            <tr key={d}>
              <td>{d}</td>
              <chakra.td {...right}>{percent(c[d])}</chakra.td>
            </tr>
          ))}
        </tbody>
      </chakra.table>
      <Section title="What cost it">
        {costs.length === 0 ? (
          <Empty>Nothing is wrong with its cells.</Empty>
        ) : (
          costs.map((f) => (
            <Text key={f.rule} fontSize="sm" py="1" borderTopWidth="1px" borderColor="line">
              {f.found}{" "}
              <Link to="/tables/$id" params={{ id: String(t.id) }} search={{ view: "rows", rule: f.rule }}>
                Show {plural(f.rows, "row", "rows")}
              </Link>
            </Text>
          ))
        )}
      </Section>
      <Section title="Most frequent">
        <Frequencies of={c.frequent} total={c.filled} />
      </Section>
      {c.missing > 0 && (
        <Section title={`Missing, ${count(c.missing)} of ${count(a.result.rows)}`}>
          <Frequencies
            of={Object.entries(c.missing_marks ?? {})
              .map(([text, rows]) => ({ text, rows }))
              .sort((x, y) => y.rows - x.rows)}
            total={c.missing}
          />
        </Section>
      )}
      <Section title="Values">
        <chakra.table w="full" fontSize="sm">
          <tbody>
            {(
              [
                ["filled", count(c.filled)],
                ["distinct", (c.distinct_error ? "≈ " : "") + count(c.distinct)],
                ["lowest", c.lowest],
                ["highest", c.highest],
                ["sum", decimal(c.sum)],
                ["mean", glance(c.mean)],
                ["with stray spaces", count(c.spaced)],
                ["length in characters", `${c.shortest} to ${c.longest}`],
              ] as const
            )
              .filter(([, v]) => v)
              .map(([name, v]) => (
                <tr key={name}>
                  <chakra.td color="quiet">{name}</chakra.td>
                  <chakra.td {...right}>{v}</chakra.td>
                </tr>
              ))}
          </tbody>
        </chakra.table>
      </Section>
    </Box>
  );
}

/** Bars of how often texts occur; the scale is the share of the whole. */
function Frequencies({ of, total }: { of: Schemas["Frequency"][]; total: number }) {
  return (
    <Box>
      {of.map((f) => (
        <HStack key={f.text} fontSize="sm" gap="2">
          <Box w="150px" overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap" title={f.text}>
            <Value text={f.text} />
          </Box>
          <Box flex="1" aria-hidden="true">
            <Box h="2.5" bg="quiet" w={`${(100 * f.rows) / Math.max(total, 1)}%`} minW="1px" />
          </Box>
          <Text w="60px" {...right}>
            {count(f.rows)}
          </Text>
        </HStack>
      ))}
    </Box>
  );
}
