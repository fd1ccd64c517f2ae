import { Box, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "../client/client";
import { trace } from "../client/queries";
import { Choice, Field } from "../shared/controls";
import { Section } from "../shared/parts";
import { Shown } from "../shared/states";
import { Value } from "../shared/Value";
import { count } from "../shared/words";
import { stepName } from "./ledger";

/** "Why is this 7.2?": what was done to a row or cell of a cleaned table, back to the rows that arrived. */
export function TraceCell({
  id,
  columns,
  parent,
}: {
  id: number;
  columns: string[];
  parent?: number | null;
}) {
  const [row, setRow] = useState("");
  const [column, setColumn] = useState("");
  const n = /^\d+$/.test(row) ? Number(row) : 0;
  const traced = useQuery({ ...trace(id, n, column), enabled: n > 0 });
  return (
    <Section title="How a cell came about">
      <HStack gap="2" mb="2">
        <Field
          aria-label="Row"
          placeholder="row"
          inputMode="numeric"
          w="100px"
          value={row}
          onChange={(e) => setRow(e.target.value.trim())}
        />
        <Choice aria-label="Column of the cell" value={column} onChange={(e) => setColumn(e.target.value)}>
          <option value="">the whole row</option>
          {columns.map((c) => (
            <option key={c}>{c}</option>
          ))}
        </Choice>
      </HStack>
      {n > 0 && (
        <Shown query={traced}>
          {(t) => (
            <>
              <Box as="ol" listStyleType="none" m="0" p="0">
                {t.events.map((e) => (
                  <Box as="li" key={`${e.step} ${e.column} ${e.row} ${e.was}`} fontSize="sm" py="0.5">
                    <b>
                      step {e.step} {stepName(e.kind)}
                    </b>{" "}
                    <Did e={e} />{" "}
                    <Text as="span" color="quiet">
                      {e.reason}
                    </Text>
                  </Box>
                ))}
              </Box>
              <Text fontSize="sm">
                {t.events.length === 0 && "No step had to do with it: it stands as it arrived. "}
                It came with {rowsNamed(t.rows)}
                {parent && ` of table ${parent}`}
                {column &&
                  (t.column === undefined || t.column === ""
                    ? "; the column was made by a step"
                    : t.column !== column && `, in the column ${t.column}`)}
                .
              </Text>
            </>
          )}
        </Shown>
      )}
    </Section>
  );
}

function Did({ e }: { e: Schemas["TracedEvent"] }) {
  if (e.was != null) {
    return e.was === "" ? `made the column ${e.column}.` : `called ${e.was} ${e.column}.`;
  }
  if (e.column) {
    return (
      <>
        made <Value text={e.old} /> in {e.column} <Value text={e.new} />.
      </>
    );
  }
  return e.from?.length ? `made it stand for ${rowsNamed(e.from)}.` : null;
}

const named = 8;

function rowsNamed(rows: number[]): string {
  const first = rows.slice(0, named).map(count).join(", ");
  return rows.length === 1
    ? `row ${first}`
    : rows.length > named
      ? `rows ${first} and ${count(rows.length - named)} more`
      : `rows ${first}`;
}
