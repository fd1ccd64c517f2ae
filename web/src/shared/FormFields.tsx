import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { type ReactNode, useState } from "react";
import type { Schemas } from "../client/client";
import { Choice, Field, Press } from "./controls";
import { useEntry } from "./Entry";
import { joined, split } from "./lists";

type Form = Schemas["FieldForm"];
type Given = Schemas["Field"];

/**
 * Fields, each with what it declares. What a field declares lies over the fields below while it is being filled in, so that
 * nothing moves under a hand that goes on.
 */
export function FormFields(props: {
  forms: Form[];
  fields: Given[];
  /** What a field that names columns can name. */
  columns: (f: Form) => string[];
  set: (field: Given) => void;
  /** Fields that are filled in otherwise than by their kind. */
  instead?: (f: Form, given: Given | undefined) => ReactNode;
}) {
  return props.forms.map((f) => {
    const given = props.fields.find((x) => x.name === f.name);
    const other = props.instead?.(f, given);
    // Only one control alone has the name as its label: a press on the label would press the first of several.
    const several = other !== undefined || f.kind === "columns" || f.kind === "pairs";
    return (
      <Box
        key={f.name}
        as={several ? "div" : "label"}
        display="grid"
        gridTemplateColumns="minmax(84px, 104px) minmax(0, 1fr)"
        gap="2"
        py="1"
        position="relative"
        title={f.says}
        css={{ "& .says": { display: "none" }, "&:focus-within .says": { display: "block" } }}
      >
        <chakra.span fontSize="sm" pt="1">
          {f.name.replaceAll("_", " ")}
          {f.required && <chakra.span color="quiet"> *</chakra.span>}
        </chakra.span>
        {other ?? <FormInput f={f} columns={props.columns(f)} given={given} set={props.set} />}
        <Text
          className="says"
          position="absolute"
          top="100%"
          left="104px"
          right="0"
          zIndex="3"
          bg="sheet"
          borderWidth="1px"
          borderColor="line"
          px="2"
          py="1"
          fontSize="sm"
          pointerEvents="none"
        >
          {f.says}
        </Text>
      </Box>
    );
  });
}

type InputProps = {
  f: Form;
  /** What a field that names columns can name. */
  columns: string[];
  given: Given | undefined;
  set: (field: Given) => void;
};

/** What a field declares, by its kind. */
function FormInput(props: InputProps) {
  const { f, given, set } = props;
  switch (f.kind) {
    case "choice":
    case "truth":
    case "column":
      return (
        <Choice
          aria-label={f.name}
          value={given?.value ?? ""}
          w="full"
          maxW="full"
          onChange={(e) => set({ name: f.name, value: e.target.value })}
        >
          <option value="">{f.otherwise && `not declared: ${f.otherwise}`}</option>
          {options(f, props.columns, given?.value).map((o) => (
            <option key={o}>{o}</option>
          ))}
        </Choice>
      );
    case "columns":
      return <Columns {...props} />;
    case "texts":
      return (
        <Line
          f={f}
          now={given?.values ? joined(given.values) : (given?.value ?? "")}
          hint="with commas between"
          set={(text) => set({ name: f.name, values: split(text) })}
        />
      );
    case "pairs":
      return <Pairs {...props} />;
    case "entries":
      return (
        <Text fontSize="sm" color="quiet" pt="1">
          {given?.values?.length
            ? `${given.values.length} in the text`
            : "none yet; they are made of what a preview leaves open"}
        </Text>
      );
  }
  const code = f.kind === "condition" || f.kind === "expression";
  return (
    <Line
      f={f}
      now={given?.value ?? ""}
      hint={f.otherwise}
      code={code}
      set={(value) => set({ name: f.name, value })}
    />
  );
}

function options(f: Form, columns: string[], now: string | undefined): string[] {
  const offered = f.kind === "column" ? columns : f.kind === "truth" ? ["true", "false"] : (f.choices ?? []);
  return now && !offered.includes(now) ? [now, ...offered] : offered;
}

/** A text that counts when it is left, or when enter is pressed. */
function Line(props: { f: Form; now: string; hint?: string; code?: boolean; set: (text: string) => void }) {
  const { value, setValue, done, onKeyDown } = useEntry(props.now, props.set);
  return (
    <Field
      aria-label={props.f.name}
      value={value}
      w="full"
      placeholder={props.hint}
      fontFamily={props.code ? "mono" : undefined}
      onChange={(e) => setValue(e.target.value)}
      onBlur={() => done()}
      onKeyDown={onKeyDown}
    />
  );
}

/** The texts that a field gives: several, or one alone. */
export const textsOf = (given: Given | undefined) => given?.values ?? (given?.value ? [given.value] : []);

/** Columns in their order: each can be taken out, and others are added. */
function Columns({ f, columns, given, set }: InputProps) {
  const chosen = textsOf(given);
  const put = (values: string[]) => set({ name: f.name, values: values.length > 0 ? values : undefined });
  return (
    <HStack gap="1" flexWrap="wrap">
      {chosen.map((c) => (
        <chakra.button
          key={c}
          type="button"
          px="2"
          minH="24px"
          borderWidth="1px"
          borderColor="line"
          bg="sheet"
          fontSize="sm"
          aria-label={`Without ${c}`}
          title={`Without ${c}`}
          onClick={() => put(chosen.filter((x) => x !== c))}
        >
          {c} ×
        </chakra.button>
      ))}
      <Choice
        aria-label={`${f.name}: one more`}
        value=""
        maxW="150px"
        onChange={(e) => put([...chosen, e.target.value])}
      >
        <option value="">add …</option>
        {columns
          .filter((c) => !chosen.includes(c))
          .map((c) => (
            <option key={c}>{c}</option>
          ))}
      </Choice>
    </HStack>
  );
}

type Pair = Schemas["Pair"];

/** Pairs in words, each of which can be taken out. */
export function PairLines(props: {
  pairs: Pair[];
  says: (p: Pair) => ReactNode;
  put: (pairs: Pair[]) => void;
}) {
  return props.pairs.map((p) => (
    <HStack key={p.name} gap="1" mb="1">
      <Text fontSize="sm" flex="1" minW="0" overflowWrap="anywhere">
        {props.says(p)}
      </Text>
      <Press
        plain
        size="xs"
        h="6"
        aria-label={`Without ${p.name}`}
        onClick={() => props.put(props.pairs.filter((x) => x.name !== p.name))}
      >
        ×
      </Press>
    </HStack>
  ));
}

/** Names with what each stands for. */
export function Pairs({ f, given, set }: Pick<InputProps, "f" | "given" | "set">) {
  const pairs = given?.pairs ?? [];
  const [name, setName] = useState("");
  const [text, setText] = useState("");
  const put = (next: Pair[]) => set({ name: f.name, pairs: next.length > 0 ? next : undefined });
  return (
    <Box>
      <PairLines
        pairs={pairs}
        put={put}
        says={(p) => (
          <>
            {p.name} → <b>{p.text}</b>
          </>
        )}
      />
      <HStack gap="1">
        <Field
          aria-label={`${f.name}: a name more`}
          placeholder="name"
          w="50%"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Field
          aria-label={`${f.name}: what it stands for`}
          placeholder="stands for"
          w="50%"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <Press
          plain
          size="xs"
          h="8"
          aria-label={`${f.name}: add it`}
          disabled={name === ""}
          onClick={() => {
            put([...pairs.filter((x) => x.name !== name), { name, text }]);
            setName("");
            setText("");
          }}
        >
          Add
        </Press>
      </HStack>
    </Box>
  );
}
