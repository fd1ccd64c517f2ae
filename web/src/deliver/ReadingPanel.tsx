import { Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../client/client";
import { reading } from "../client/queries";
import { Grid, Shown, Td, Th, Value } from "../shared/parts";

const sure: Record<string, string> = {
  certain: "certain",
  likely: "likely",
  ambiguous: "it may be otherwise",
};

/** How the file was read, and what that rests on. */
export function ReadingPanel({ t }: { t: Schemas["Table"] }) {
  const found = useQuery(reading(t.id));
  return (
    <Shown query={found}>
      {(d) => (
        <>
          <Text mb="2">
            What the file itself tells about how it is to be read. A rulebook can declare each of these in its
            reading; what is declared counts.
          </Text>
          <Grid label="How the file is read">
            <thead>
              <tr>
                <Th>read as</Th>
                <Th>found</Th>
                <Th>how sure</Th>
                <Th>because</Th>
              </tr>
            </thead>
            <tbody>
              {d.evidence.map((e) => (
                <tr key={e.aspect}>
                  <Td whiteSpace="nowrap">{e.aspect}</Td>
                  <Td>
                    <Value text={e.found} />
                  </Td>
                  <Td whiteSpace="nowrap" fontWeight={e.confidence === "ambiguous" ? "700" : "400"}>
                    {sure[e.confidence]}
                  </Td>
                  <Td>{e.because}</Td>
                </tr>
              ))}
            </tbody>
          </Grid>
        </>
      )}
    </Shown>
  );
}
