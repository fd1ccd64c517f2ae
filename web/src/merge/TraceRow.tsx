import { Box, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useSearch } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "../client/client";
import { audit, trace } from "../client/queries";
import { stepName } from "../putright/ledger";
import { Choice, Field } from "../shared/controls";
import { Section, TableLink } from "../shared/parts";
import { Shown } from "../shared/states";
import { Value } from "../shared/Value";
import { count, originWord } from "../shared/words";

type Traced = Schemas["RowTraced"];

/** "Why is this 7.2?": where a row or cell is from, through merges and the steps of fix plans, back to the rows that arrived. */
export function TraceRow({ t }: { t: Schemas["Table"] }) {
  const search = useSearch({ from: "/tables/$id" });
  const [row, setRow] = useState(search.row ? String(search.row) : "");
  const [column, setColumn] = useState("");
  const n = /^\d+$/.test(row) ? Number(row) : 0;
  const traced = useQuery({ ...trace(t.id, n, column), enabled: n > 0 });
  const columns = useQuery({ ...audit(t.audit_id ?? 0), enabled: t.audit_id != null }).data?.result.columns;
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
          {columns?.map((c) => (
            <option key={c.name}>{c.name}</option>
          ))}
        </Choice>
      </HStack>
      {n > 0 && <Shown query={traced}>{(one) => <Origin t={one} />}</Shown>}
    </Section>
  );
}

const how: Record<string, string> = {
  stacked: "stacked: ",
  joined: "joined with ",
  unasked: "kept of a joined table: ",
  filled: "it stands for, and has cells of, ",
};

/** A row with what it was made of, one below the other. */
function Origin({ t }: { t: Traced }) {
  return (
    <Box borderLeftWidth="2px" borderColor="line" ps="3" my="1">
      <Text>
        {how[t.how ?? ""]}row {count(t.row)}
        {t.asked && `, ${t.asked},`} of{" "}
        <TableLink id={t.table}>
          {t.dataset}, {originWord[t.origin]} {t.table}
        </TableLink>{" "}
        <Text as="span" color="quiet">
          {t.file}
        </Text>
      </Text>
      {t.grain && (
        <Text fontSize="sm">It is counted among what its rows became before the merge: {t.grain}.</Text>
      )}
      {t.origin === "cleaned" && !t.grain && <Steps t={t} />}
      {t.from.map((one) => (
        <Origin key={`${one.how} ${one.table} ${one.row}`} t={one} />
      ))}
      {t.origin === "merged" && t.from.length === 0 && (
        <Text fontSize="sm">The merge made the cell, or the row found no partner to have it from.</Text>
      )}
    </Box>
  );
}

/** What the steps of a fix plan did to a row or cell, and the rows that arrived. */
function Steps({ t }: { t: Traced }) {
  return (
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
        {t.parent != null && (
          <>
            {" "}
            of <TableLink id={t.parent}>table {t.parent}</TableLink>
          </>
        )}
        {t.asked &&
          (t.column === undefined || t.column === ""
            ? "; the column was made by a step"
            : t.column !== t.asked && `, in the column ${t.column}`)}
        .
      </Text>
    </>
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
