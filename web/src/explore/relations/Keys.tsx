import { chakra, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../../client/client";
import { keys } from "../../client/queries";
import { Section } from "../../shared/parts";
import { Empty, Shown } from "../../shared/states";
import { count } from "../../shared/words";

/** Which columns, alone or together, name the rows. */
export function Keys({ t }: { t: Schemas["Table"] }) {
  const found = useQuery(keys(t.id));
  return (
    <Section title="What could be a key">
      <Shown query={found} waiting="Looking through all rows …">
        {(all) =>
          all.length === 0 ? (
            <Empty>
              No set of up to three columns names the rows. Look for repeated rows, or for a part that is
              missing.
            </Empty>
          ) : (
            all.map((k) => (
              <Text key={k.columns.join()}>
                <chakra.span fontFamily="mono" fontSize="sm">
                  {k.columns.join(" + ")}
                </chakra.span>{" "}
                {k.surplus + k.lacking === 0
                  ? "names every row."
                  : `names nearly every row: ${count(k.surplus)} surplus, ${count(k.lacking)} without a part of it.`}
              </Text>
            ))
          )
        }
      </Shown>
    </Section>
  );
}
