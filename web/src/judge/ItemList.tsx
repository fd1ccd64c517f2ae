import { Box, chakra, HStack } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../client/client";
import { Field, Press } from "../shared/controls";
import { Input } from "./FieldInput";
import { given, shownOf } from "./fieldWords";

type Outlined = Schemas["Outlined"];
type Item = Schemas["ItemOutline"];

/** The items of a section, to choose one. */
export function ItemList({
  items,
  chosen,
  choose,
}: {
  items: Item[];
  chosen?: string;
  choose: (name: string) => void;
}) {
  const [find, setFind] = useState("");
  const shown = items.filter((i) => i.name.toLowerCase().includes(find.toLowerCase()));
  return (
    <>
      {items.length > 15 && (
        <Field
          aria-label="Find"
          placeholder={`find among ${items.length}`}
          w="full"
          mb="1"
          value={find}
          onChange={(e) => setFind(e.target.value)}
        />
      )}
      <Box maxH="calc(100vh - 270px)" overflow="auto" borderTopWidth="1px" borderColor="line">
        {shown.map((i) => (
          <chakra.button
            key={`${i.line} ${i.name}`}
            type="button"
            display="block"
            w="full"
            textAlign="left"
            px="2"
            py="1"
            borderBottomWidth="1px"
            borderColor="line"
            aria-pressed={i.name === chosen}
            bg={i.name === chosen ? "sunken" : undefined}
            fontWeight={i.name === chosen ? "700" : "400"}
            onClick={() => choose(i.name)}
          >
            {i.name}{" "}
            <chakra.span color="quiet" fontSize="sm" fontWeight="400">
              {summary(i)}
            </chakra.span>
          </chakra.button>
        ))}
      </Box>
    </>
  );
}

/** The fields that say most, in a few words. */
function summary(i: Item): string {
  const parts = i.fields
    .filter((f) => f.dataset || ["type", "condition", "check", "columns", "required"].includes(f.name))
    .map((f) => (f.name === "required" ? (f.value === "true" ? "required" : "") : shownOf(f)));
  const text = parts.filter(Boolean).join(", ");
  return text.length > 60 ? `${text.slice(0, 59)}…` : text;
}

/** Adds an item to a section, with the fields that it cannot be without. */
export function AddItem(props: {
  form: Schemas["SectionForm"];
  o: Outlined;
  busy: boolean;
  add: (c: Schemas["Change"]) => Promise<unknown>;
  choose: (section: string, item?: string) => void;
}) {
  const { form, add, choose } = props;
  const [name, setName] = useState("");
  const [values, setValues] = useState<Record<string, string>>({});
  const must = form.form.filter((f) => f.required && f.name !== "id" && f.name !== "name");
  const key = form.name === "columns" ? "name" : "id";
  const fields = () => [
    { name: key, value: name },
    ...must.map((f) => ({ name: f.name, ...given(f, values[f.name] ?? "") })),
  ];
  return (
    <Box
      as="form"
      mt="2"
      onSubmit={(e) => {
        e.preventDefault();
        add({ section: form.name, add: true, fields: fields() }).then(
          () => {
            choose(form.name, name);
            setName("");
            setValues({});
          },
          () => undefined, // it is shown above
        );
      }}
    >
      <HStack gap="2" flexWrap="wrap">
        <Field
          aria-label={`The ${key} of ${form.title} more`}
          placeholder={`${key} of ${form.title} more`}
          required
          w="200px"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        {must.map((f) => (
          <Input
            key={f.name}
            f={f.kind === "columns" ? { ...f, kind: "column" } : f}
            o={props.o}
            value={values[f.name] ?? ""}
            set={(v) => setValues({ ...values, [f.name]: v })}
            required
            label={`Its ${f.name}`}
          />
        ))}
        <Press type="submit" plain loading={props.busy}>
          Add
        </Press>
      </HStack>
    </Box>
  );
}
