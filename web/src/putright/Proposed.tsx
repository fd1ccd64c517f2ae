import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../client/client";
import { proposedSteps } from "../client/queries";
import { Press } from "../shared/controls";
import { plural } from "../shared/words";
import { stepName } from "./ledger";

/** Steps that would put right what was found and are not in the plan; each is for a person to decide. */
export function Proposed(props: {
  table: number;
  steps: { fields: Schemas["Field"][] }[];
  add: (fields: Schemas["Field"][]) => void;
}) {
  const proposed = useQuery(proposedSteps(props.table)).data ?? [];
  const left = proposed.filter((p) => !props.steps.some((s) => same(s.fields, p.fields)));
  if (left.length === 0) {
    return null;
  }
  return (
    <chakra.details mt="3" open={props.steps.length === 0}>
      <chakra.summary cursor="pointer" color="accent">
        {plural(left.length, "step more", "steps more")} for what was found
      </chakra.summary>
      {left.map((p) => (
        <HStack
          key={JSON.stringify(p)}
          align="start"
          gap="2"
          py="1"
          borderBottomWidth="1px"
          borderColor="line"
        >
          <Box flex="1" minW="0" fontSize="sm">
            <chakra.span fontWeight="650">{stepName(given(p.fields, "do") ?? "")}</chakra.span>{" "}
            <chakra.span color="quiet">{p.evidence}</chakra.span>
            {p.doubt && <Text color="quiet">To be decided, since {p.doubt}.</Text>}
          </Box>
          <Press plain size="xs" h="6" onClick={() => props.add(p.fields)}>
            Add
          </Press>
        </HStack>
      ))}
    </chakra.details>
  );
}

const given = (fields: Schemas["Field"][], name: string) => fields.find((f) => f.name === name)?.value;

/** Whether a step of the plan is one that is proposed, whatever else it says. */
const same = (mine: Schemas["Field"][], proposed: Schemas["Field"][]) =>
  given(mine, "do") === given(proposed, "do") &&
  proposed
    .filter((f) => f.name === "columns" || f.name === "sure" || f.name === "where" || f.name === "unit")
    .every((f) => {
      const other = mine.find((m) => m.name === f.name);
      return other?.value === f.value && JSON.stringify(other?.values) === JSON.stringify(f.values);
    });
