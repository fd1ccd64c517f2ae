import { HStack, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../client/client";
import { Press } from "../shared/controls";
import { Grid, Td, Th } from "../shared/grid";
import { Section } from "../shared/parts";
import { Value } from "../shared/Value";
import { count, plural } from "../shared/words";
import type { Ledger } from "./ledger";

/** Puts what a person decided into a step. */
export type Settle = (step: number, fields: Schemas["Field"][]) => void;

/** Cells of which no rule says what stays: a person presses the text that does. */
export function Undecided({ ledger, settle }: { ledger: Ledger; settle: Settle }) {
  const [decided, setDecided] = useState<Record<string, string>>({});
  const steps = ledger.steps.filter((s) => s.undecided?.length);
  return steps.map((s) => (
    <Section key={s.step} title={`Step ${s.step}: which of these stays?`}>
      <Grid label="Cells to decide" max="320px">
        <thead>
          <tr>
            <Th>row</Th>
            <Th>column</Th>
            <Th>press what stays</Th>
          </tr>
        </thead>
        <tbody>
          {s.undecided?.map((u) => {
            const key = Object.entries(u.key).map(([name, text]) => ({ name, text }));
            const id = JSON.stringify([s.step, u.key, u.column]);
            return (
              <tr key={id}>
                <Td>{key.map((k) => k.text).join(", ")}</Td>
                <Td>{u.column}</Td>
                <Td>
                  <HStack gap="2" flexWrap="wrap">
                    {u.choices.map((c) => (
                      <Press
                        key={c.text}
                        plain={decided[id] !== c.text}
                        size="xs"
                        h="6"
                        disabled={decided[id] !== undefined}
                        title={`${plural(c.rows, "row has", "rows have")} it`}
                        onClick={() => {
                          setDecided({ ...decided, [id]: c.text });
                          settle(s.step, [
                            { name: "key", pairs: key },
                            { name: "column", value: u.column },
                            { name: "to", value: c.text },
                          ]);
                        }}
                      >
                        <Value text={c.text} /> ({count(c.rows)})
                      </Press>
                    ))}
                  </HStack>
                </Td>
              </tr>
            );
          })}
        </tbody>
      </Grid>
      {(s.open ?? 0) > (s.undecided?.length ?? 0) && (
        <Text fontSize="sm" color="quiet">
          The first {count(s.undecided?.length)} of {count(s.open)}; settle these, and look again.
        </Text>
      )}
    </Section>
  ));
}
