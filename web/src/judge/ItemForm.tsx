import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import type { Schemas } from "../client/client";
import { Press } from "../shared/controls";
import { Settled } from "./FieldInput";
import { given, shownOf } from "./fieldWords";

type Outlined = Schemas["Outlined"];
type Item = Schemas["ItemOutline"];
type Field = Schemas["Field"];

/** The fields of an item, each with what it declares, and what is wrong with it. */
export function ItemForm(props: {
  form: Schemas["SectionForm"];
  item: Item;
  o: Outlined;
  problems: Schemas["Problem"][];
  change: (c: Schemas["Change"]) => void;
  remove?: () => void;
}) {
  const { form, item, o, change } = props;
  const check = item.fields.find((f) => f.name === "check")?.value;
  const shown = form.form.filter((f) => !f.for || (check !== undefined && f.for.includes(check)));
  const unknown = item.fields.filter((f) => !form.form.some((g) => g.name === f.name));
  return (
    <>
      <HStack justify="space-between">
        <Text fontWeight="650">{form.single ? form.title : item.name}</Text>
        <HStack gap="3">
          {item.line > 0 && (
            <Text fontSize="sm" color="quiet">
              line {item.line} of the text
            </Text>
          )}
          {props.remove && (
            <Press plain size="xs" h="6" onClick={props.remove}>
              Remove
            </Press>
          )}
        </HStack>
      </HStack>
      <Box maxH="calc(100vh - 195px)" overflow="auto" mt="1">
        {shown.map((f) => {
          const field = item.fields.find((x) => x.name === f.name);
          const value = shownOf(field);
          return (
            <Box
              key={f.name}
              display="grid"
              gridTemplateColumns={{ base: "minmax(0, 1fr)", lg: "130px 260px 1fr" }}
              alignItems="center"
              gap="3"
              py="1"
              borderBottomWidth="1px"
              borderColor="line"
            >
              <chakra.span fontWeight={value === "" ? "400" : "600"}>
                {f.name.replaceAll("_", " ")}
              </chakra.span>
              <Settled
                f={f}
                o={o}
                value={value}
                set={(v) => change({ section: form.name, item: item.name, field: f.name, ...given(f, v) })}
              />
              <Box fontSize="sm">
                <chakra.span color="quiet">{f.says}</chakra.span>
                {field &&
                  mistakesOf(field, item, props.problems).map((m) => (
                    <Text key={m} role="alert" color="validity">
                      {m}
                    </Text>
                  ))}
              </Box>
            </Box>
          );
        })}
        {unknown.length > 0 && (
          <Text fontSize="sm" color="quiet" py="1">
            In the text it also has {unknown.map((f) => f.name).join(", ")}.
          </Text>
        )}
      </Box>
    </>
  );
}

/** The mistakes at the place of a field: the last field that begins before a mistake is the one it speaks of. */
function mistakesOf(field: Field, item: Schemas["ItemOutline"], problems: Schemas["Problem"][]): string[] {
  const before = (a: { line?: number; column?: number }, line: number, column: number) =>
    (a.line ?? 0) < line || ((a.line ?? 0) === line && (a.column ?? 0) <= column);
  return problems
    .filter((p) => {
      const last = item.fields.filter((f) => before(f, p.line, p.column)).at(-1);
      return last === field && p.line - (field.line ?? 0) < 30;
    })
    .map((p) => p.message);
}
