import { HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../../client/client";
import { gaps } from "../../client/queries";
import { Gaps } from "../../shared/Picture";
import { Section } from "../../shared/parts";
import { Shown } from "../../shared/states";
import { count, plural } from "../../shared/words";

type Audit = Schemas["AuditShown"];
type Column = Schemas["Column"];
type Table = Schemas["Table"];

/** Where the column is missing, by which marks, and with which other columns that goes. */
export function Missing({ t, a, c }: { t: Table; a: Audit; c: Column }) {
  const partly = c.missing > 0 && c.filled > 0;
  const found = useQuery({ ...gaps(t.id, c.name), enabled: partly });
  if (c.missing === 0) {
    return null;
  }
  const marks = Object.entries(c.missing_marks ?? {}).map(([text, rows]) => ({ text, rows }));
  return (
    <Section title={`Missing in ${count(c.missing)} of ${plural(a.result.rows, "row", "rows")}`}>
      <HStack gap="4">
        <Gaps c={c} rows={a.result.rows} />
        <Text fontSize="sm" color="quiet">
          from the first row to the last;{" "}
          {marks.map((m) => `${m.text === "" ? "empty" : m.text}: ${count(m.rows)}`).join(", ")}
        </Text>
      </HStack>
      {partly && (
        <Shown query={found} waiting="Looking through all rows …">
          {(all) => {
            const strong = all.filter((g) => g.strength >= 0.1).slice(0, 4);
            return strong.length === 0 ? (
              <Text fontSize="sm">The gaps go with no other column: they are spread as if by chance.</Text>
            ) : (
              strong.map((g) => (
                <Text key={g.column} fontSize="sm">
                  The gaps go with <b>{g.column}</b> (strength {g.strength.toFixed(2)} of 1):{" "}
                  {g.values
                    .slice(0, 3)
                    .map(
                      (v) =>
                        `${v.value === "" ? "where it is missing" : v.value} lacks ${count(v.missing)} of ${count(v.rows)}`,
                    )
                    .join("; ")}
                  .
                </Text>
              ))
            );
          }}
        </Shown>
      )}
    </Section>
  );
}
