import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import type { Schemas } from "../../client/client";
import { PutColumn } from "../../putright/PutColumn";
import { PutRight } from "../../putright/PutRight";
import { Choice } from "../../shared/controls";
import { Mesh } from "../../shared/Mesh";
import { LargePicture } from "../../shared/Picture";
import { Section } from "../../shared/parts";
import { Empty } from "../../shared/states";
import { percent, plural } from "../../shared/words";
import { Figures, List } from "./Figures";
import { Grouped } from "./Grouped";
import { Missing } from "./MissingOf";

export type Table = Schemas["Table"];

export type Audit = Schemas["AuditShown"];

export type Column = Schemas["Column"];

/** Everything about one column. */
export function ColumnPanel({ t, a }: { t: Table; a: Audit }) {
  const { column } = useSearch({ from: "/tables/$id" });
  const columns = a.result.columns;
  const at = columns.findIndex((c) => c.name === column);
  if (at < 0) {
    return <Empty>The table has no column {column}; choose one in the columns view.</Empty>;
  }
  const c = columns[at];
  return (
    <>
      <HStack justify="space-between" align="baseline" flexWrap="wrap">
        <HStack align="baseline" gap="3" flexWrap="wrap" minW="0">
          <chakra.h2 fontSize="lg" fontWeight="650" wordBreak="break-word">
            {c.name}
          </chakra.h2>
          <Text color="quiet">
            {c.role}, {c.type}; score {percent(c.score)}
          </Text>
          <Mesh mesh={c.mesh} rows={a.result.rows} name={c.name} />
          <PutColumn t={t} column={c.name} />
        </HStack>
        <Turn t={t} columns={columns} at={at} />
      </HStack>
      {a.result.leads
        .filter((l) => l.column === c.name)
        .map((l) => (
          <Text key={l.says}>
            {l.says} <PutRight t={t} lead={l.kind} column={l.column} />
          </Text>
        ))}
      <Box
        display="grid"
        gridTemplateColumns={{ base: "minmax(0, 1fr)", lg: "minmax(0, 1fr) 330px" }}
        gap="6"
      >
        <Box minW="0">
          <LargePicture c={c} />
          <Costs t={t} a={a} c={c} />
          <Grouped t={t} columns={columns} c={c} />
          <Missing t={t} a={a} c={c} />
        </Box>
        <Box as="aside" aria-label={`Figures of ${c.name}`}>
          <Figures t={t} c={c} rows={a.result.rows} />
          <List
            title={c.at_least ? "Most frequent, at least so often" : "Most frequent"}
            of={c.frequent}
            total={c.filled}
            column={c.name}
          />
          <List title="Exceptions to the type" of={c.exceptions} total={c.mistyped ?? 0} column={c.name} />
          <List
            title={c.more_shapes ? "Shapes; there are more" : "Shapes"}
            of={c.shapes}
            total={c.filled}
            column={c.name}
          />
          <List title="Least frequent" of={c.rare} total={c.filled} column={c.name} />
        </Box>
      </Box>
    </>
  );
}

/** To the column before and after, and to any other. */
function Turn({ t, columns, at }: { t: Table; columns: Column[]; at: number }) {
  const navigate = useNavigate();
  const to = (name: string) =>
    ({ to: "/tables/$id", params: { id: String(t.id) }, search: { view: "column", column: name } }) as const;
  return (
    <HStack gap="3" fontSize="sm">
      {at > 0 && <Link {...to(columns[at - 1].name)}>← {columns[at - 1].name}</Link>}
      <Choice
        aria-label="Another column"
        value={columns[at].name}
        onChange={(e) => navigate(to(e.target.value))}
        maxW="180px"
      >
        {columns.map((c) => (
          <option key={c.name}>{c.name}</option>
        ))}
      </Choice>
      {at < columns.length - 1 && <Link {...to(columns[at + 1].name)}>{columns[at + 1].name} →</Link>}
    </HStack>
  );
}

function Costs({ t, a, c }: { t: Table; a: Audit; c: Column }) {
  const costs = a.result.findings.filter((f) => f.columns.includes(c.name));
  return (
    <Section title="What cost it">
      {costs.length === 0 ? (
        <Text color="quiet">Nothing is wrong with its cells.</Text>
      ) : (
        costs.map((f) => (
          <Text key={f.rule} fontSize="sm">
            {f.found}{" "}
            <Link to="/tables/$id" params={{ id: String(t.id) }} search={{ view: "rows", rule: f.rule }}>
              Show {plural(f.rows, "row", "rows")}
            </Link>{" "}
            <PutRight t={t} finding={f.rule} />
          </Text>
        ))
      )}
    </Section>
  );
}
