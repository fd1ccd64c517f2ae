import { Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../client/client";
import { reading } from "../client/queries";
import { Grid, Td, Th } from "../shared/grid";
import { joined } from "../shared/lists";
import { Shown } from "../shared/states";
import { Value } from "../shared/Value";

const sure: Record<string, string> = {
  certain: "certain",
  likely: "likely",
  ambiguous: "it may be otherwise",
};

/** What a person said of the reading when the file was delivered; nothing where it was found out. */
function saidOf(t: Schemas["Table"]) {
  return Object.entries((t.reading ?? {}) as Record<string, string | number | string[] | null>)
    .filter(([, v]) => v !== null && v !== "" && v !== 0)
    .map(([name, v]) => ({
      name: name.replaceAll("_", " "),
      value: Array.isArray(v) ? joined(v) || "none" : v === -1 ? "none" : String(v),
    }));
}

/** How the file was read, and what that rests on. */
export function ReadingPanel({ t }: { t: Schemas["Table"] }) {
  const found = useQuery(reading(t.id));
  const said = saidOf(t);
  return (
    <Shown query={found}>
      {(d) => (
        <>
          <Text mb="2">
            What the file itself tells about how it is to be read. A rulebook can declare each of these in its
            reading; what is declared counts.
          </Text>
          {said.length > 0 && (
            <Text mb="2">
              <strong>Said when it was delivered</strong>, and not found out:{" "}
              {said.map((one, i) => (
                <span key={one.name}>
                  {i > 0 && "; "}
                  {one.name} <Value text={one.value} />
                </span>
              ))}
              .
            </Text>
          )}
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
