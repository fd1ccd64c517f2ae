import { Box, Text } from "@chakra-ui/react";
import type { Schemas } from "../client/client";
import { FormFields } from "../shared/FormFields";

type Form = Schemas["FieldForm"];
type Given = Schemas["Field"];

const reason: Form = {
  name: "reason",
  kind: "text",
  says: "Why, for whoever reads the change log",
  required: true,
};

/** The fields of a step, as its kind declares them, with what is wrong with them. */
export function StepForm(props: {
  kind: Schemas["KindForm"] | undefined;
  fields: Given[];
  columns: string[];
  problems: string[];
  set: (field: Given) => void;
}) {
  const { kind } = props;
  return (
    <Box ps="3" pe="1" pb="2" borderLeftWidth="3px" borderColor="accent">
      <Text fontSize="sm" color="quiet" mb="1">
        {kind ? `It ${kind.says}.` : "There is no such kind of step."}
      </Text>
      {props.problems.map((p) => (
        <Text key={p} role="alert" fontSize="sm" color="validity">
          {p}
        </Text>
      ))}
      <FormFields
        forms={[...(kind?.fields ?? []), reason]}
        fields={props.fields}
        columns={() => props.columns}
        set={props.set}
      />
    </Box>
  );
}
