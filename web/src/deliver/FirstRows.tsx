import { chakra, Text } from "@chakra-ui/react";
import type { Schemas } from "../client/client";
import { Grid, right, Td, Th } from "../shared/grid";
import { Empty } from "../shared/states";
import { Value } from "../shared/Value";
import { count, plural } from "../shared/words";

const columnsShown = 60;

/** The first rows of a file, each with the line on which it starts, as a reading makes them. */
export function FirstRows({ look }: { look: Schemas["LookedAt"] }) {
  const columns = look.columns.slice(0, columnsShown);
  const surplus = Math.max(0, ...look.rows.map((r) => r.cells.length - look.columns.length));
  if (look.rows.length === 0) {
    return <Empty>There is no row below the names of the columns.</Empty>;
  }
  return (
    <>
      <Text fontSize="sm" color="quiet">
        The first {count(look.rows.length)} rows, {plural(look.columns.length, "column", "columns")}
        {look.columns.length > columnsShown && `, of which the first ${columnsShown} are shown`}
        {look.set_aside > 0 && `; ${plural(look.set_aside, "line", "lines")} set aside, that hold no row`}.
      </Text>
      {look.defects.length > 0 && (
        <Text borderLeftWidth="4px" borderColor="validity" pl="2" my="1">
          {plural(look.defects.length, "record is", "records are")} broken as bytes, the first in line{" "}
          {count(look.defects[0].line)}: {look.defects[0].kind.replaceAll("_", " ")}
          {look.defects[0].detail && ` (${look.defects[0].detail})`}.
        </Text>
      )}
      <Grid label="The first rows" max="calc(100vh - 250px)">
        <thead>
          <tr>
            <Th {...right}>line</Th>
            {columns.map((c) => (
              <Th key={c.name}>
                {c.name}
                <chakra.span display="block" fontWeight="400">
                  {c.type}
                </chakra.span>
              </Th>
            ))}
            {surplus > 0 && <Th>too many</Th>}
          </tr>
        </thead>
        <tbody>
          {look.rows.map((r) => (
            <tr key={r.line}>
              <Td {...right} color="quiet">
                {count(r.line)}
              </Td>
              {columns.map((c, i) => (
                <Td key={c.name} whiteSpace="nowrap">
                  <Value text={r.cells[i] ?? ""} />
                </Td>
              ))}
              {surplus > 0 && (
                <Td>
                  {r.cells.length > look.columns.length && (
                    <Value text={r.cells.slice(look.columns.length).join(" · ")} />
                  )}
                </Td>
              )}
            </tr>
          ))}
        </tbody>
      </Grid>
    </>
  );
}
