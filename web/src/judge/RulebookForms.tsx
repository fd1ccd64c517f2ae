import { Box, chakra, HStack, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { outlined } from "../client/queries";
import { Choice, Empty, Field, Press, Shown, Trouble } from "../shared/parts";

type Outlined = Schemas["Outlined"];
type Item = Schemas["ItemOutline"];

/**
 * The rulebook as forms. Each change is made in the text, which is the rulebook; what the
 * forms do not know of, comments and order stay as they are.
 */
export function RulebookForms(props: {
  source: string;
  onChange: (source: string) => void;
  section?: string;
  item?: string;
  choose: (section: string, item?: string) => void;
}) {
  const { source, onChange, choose } = props;
  const known = useQuery(outlined(source));
  // Changes are made one after the other, each to what the one before left: none is lost where
  // a second one comes before the first is back.
  const latest = useRef(source);
  useEffect(() => {
    latest.current = source;
  }, [source]);
  const change = useMutation({
    scope: { id: "rulebook-forms" },
    mutationFn: async (changes: Schemas["Change"][]) => {
      const edited = await take(api.POST("/rulebooks/edit", { body: { source: latest.current, changes } }));
      latest.current = edited.source ?? latest.current;
      return edited;
    },
    onSuccess: (edited) => onChange(edited.source ?? source),
  });
  return (
    <Shown query={known}>
      {(o) => {
        const form = o.forms.find((f) => f.name === props.section) ?? o.forms[0];
        const items = o.outline.sections.find((s) => s.name === form.name)?.items ?? [];
        const item = items.find((i) => i.name === props.item);
        return (
          <>
            <Trouble error={change.error} />
            <Stack direction={{ base: "column", lg: "row" }} align={{ base: "stretch", lg: "start" }} gap="5">
              <Box w={{ lg: "330px" }} flexShrink="0">
                <HStack as="nav" aria-label="Parts of the rulebook" gap="3" mb="1" flexWrap="wrap">
                  {o.forms.map((f) => (
                    <chakra.button
                      key={f.name}
                      type="button"
                      color="accent"
                      fontWeight={f.name === form.name ? "700" : "400"}
                      aria-pressed={f.name === form.name}
                      onClick={() => choose(f.name)}
                    >
                      {f.name.replaceAll("_", " ")}{" "}
                      <chakra.span color="quiet">
                        {o.outline.sections.find((s) => s.name === f.name)?.items.length}
                      </chakra.span>
                    </chakra.button>
                  ))}
                </HStack>
                <Items items={items} chosen={item?.name} choose={(name) => choose(form.name, name)} />
                <Add
                  form={form}
                  o={o}
                  busy={change.isPending}
                  add={(c) => change.mutateAsync([c])}
                  choose={choose}
                />
              </Box>
              <Box flex="1" minW="0">
                {item ? (
                  <ItemForm
                    key={`${form.name} ${item.name}`}
                    form={form}
                    item={item}
                    o={o}
                    change={(c) => change.mutate([c])}
                    remove={() => {
                      change.mutate([{ section: form.name, item: item.name, remove: true }]);
                      choose(form.name);
                    }}
                  />
                ) : (
                  <Empty>
                    {items.length === 0
                      ? `The rulebook has no ${form.title.replace(/^a /, "")} yet. Add the first one.`
                      : `Choose ${form.title} on the left, or add one.`}
                  </Empty>
                )}
              </Box>
            </Stack>
          </>
        );
      }}
    </Shown>
  );
}

function Items({
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

function Add(props: {
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

function ItemForm(props: {
  form: Schemas["SectionForm"];
  item: Item;
  o: Outlined;
  change: (c: Schemas["Change"]) => void;
  remove: () => void;
}) {
  const { form, item, o, change } = props;
  const check = item.fields.find((f) => f.name === "check")?.value;
  const shown = form.form.filter((f) => !f.for || (check !== undefined && f.for.includes(check)));
  const unknown = item.fields.filter((f) => !form.form.some((g) => g.name === f.name));
  return (
    <>
      <HStack justify="space-between">
        <Text fontWeight="650">{item.name}</Text>
        <HStack gap="3">
          <Text fontSize="sm" color="quiet">
            line {item.line} of the text
          </Text>
          <Press plain size="xs" h="6" onClick={props.remove}>
            Remove
          </Press>
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
              <chakra.span fontSize="sm" color="quiet">
                {f.says}
              </chakra.span>
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

/** What a field holds, as people write it: columns of another dataset as "stations: id, name". */
function shownOf(field?: Schemas["Field"]) {
  const values = field?.values?.join(", ");
  return field?.dataset ? `${field.dataset}: ${values}` : (values ?? field?.value ?? "");
}

/** What was written into a field, as a change tells it. */
function given(f: Schemas["FieldForm"], text: string) {
  if (f.kind === "elsewhere" && text.includes(":")) {
    const at = text.indexOf(":");
    return { dataset: text.slice(0, at).trim(), values: split(text.slice(at + 1)) };
  }
  return f.kind === "columns" ? { values: split(text) } : { value: text };
}

const split = (text: string) =>
  text
    .split(",")
    .map((x) => x.trim())
    .filter(Boolean);

/** A field that is set when it is left, or when enter is pressed, so that each change is one. */
function Settled(props: { f: Schemas["FieldForm"]; o: Outlined; value: string; set: (v: string) => void }) {
  const [value, setValue] = useState(props.value);
  useEffect(() => setValue(props.value), [props.value]);
  const done = (v: string) => v !== props.value && props.set(v);
  const choosing = ["choice", "truth", "column", "codes"].includes(props.f.kind);
  return (
    <Input
      f={props.f}
      o={props.o}
      value={value}
      label={props.f.name}
      set={(v) => {
        setValue(v);
        if (choosing) {
          done(v);
        }
      }}
      onDone={() => done(value)}
    />
  );
}

const placeholders: Record<string, string> = {
  columns: "columns, with commas",
  elsewhere: "dataset: its columns",
};

function Input(props: {
  f: Schemas["FieldForm"];
  o: Outlined;
  value: string;
  label: string;
  required?: boolean;
  set: (v: string) => void;
  onDone?: () => void;
}) {
  const { f, o, value, set } = props;
  const columns = o.outline.sections.find((s) => s.name === "columns")?.items.map((i) => i.name) ?? [];
  const choices: Record<string, string[]> = {
    choice: f.choices ?? [],
    truth: ["true", "false"],
    column: columns,
    codes: o.outline.codes.map((l) => l.name),
  };
  const offered = choices[f.kind];
  if (offered) {
    return (
      <Choice
        aria-label={props.label}
        value={value}
        required={props.required}
        w="full"
        maxW="260px"
        onChange={(e) => set(e.target.value)}
      >
        <option value="">{props.required ? `${f.name} …` : "not declared"}</option>
        {value !== "" && !offered.includes(value) && <option>{value}</option>}
        {offered.map((c) => (
          <option key={c}>{c}</option>
        ))}
      </Choice>
    );
  }
  return (
    <Field
      aria-label={props.label}
      value={value}
      required={props.required}
      inputMode={f.kind === "number" ? "decimal" : undefined}
      fontFamily={f.kind === "condition" ? "mono" : undefined}
      placeholder={placeholders[f.kind] ?? (props.required ? f.name : "")}
      w="full"
      maxW="260px"
      onChange={(e) => set(e.target.value)}
      onBlur={props.onDone}
      onKeyDown={(e) => {
        if (e.key === "Enter" && props.onDone) {
          e.preventDefault();
          props.onDone();
        }
      }}
    />
  );
}
