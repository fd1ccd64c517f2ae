import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../client/client";
import { Choice, Field, Press } from "../shared/controls";
import { useEntry } from "../shared/Entry";
import { joined, split } from "../shared/lists";

type Form = Schemas["FieldForm"];
type Given = Schemas["Field"];

const reason: Form = {
  name: "reason",
  kind: "text",
  says: "Why, for whoever reads the change log",
  required: true,
};

/**
 * The fields of a step, as its kind declares them, with what is wrong with them. What a field declares lies over the fields
 * below while it is being filled in, so that nothing moves under a hand that goes on.
 */
export function StepForm(props: {
  kind: Schemas["KindForm"] | undefined;
  fields: Given[];
  columns: string[];
  problems: string[];
  set: (field: Given) => void;
}) {
  const { kind, fields } = props;
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
      {[...(kind?.fields ?? []), reason].map((f) => (
        <Box
          key={f.name}
          as="label"
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
          <StepInput
            f={f}
            columns={props.columns}
            given={fields.find((x) => x.name === f.name)}
            set={props.set}
          />
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
      ))}
    </Box>
  );
}

function StepInput(props: {
  f: Form;
  columns: string[];
  given: Given | undefined;
  set: (field: Given) => void;
}) {
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
          <option value="" />
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
  return <Line f={f} now={given?.value ?? ""} code={code} set={(value) => set({ name: f.name, value })} />;
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

/** Columns in their order: each can be taken out, and others are added. */
function Columns({ f, columns, given, set }: Parameters<typeof StepInput>[0]) {
  const chosen = given?.values ?? (given?.value ? [given.value] : []);
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

/** Names with what each stands for. */
function Pairs({ f, given, set }: Parameters<typeof StepInput>[0]) {
  const pairs = given?.pairs ?? [];
  const [name, setName] = useState("");
  const [text, setText] = useState("");
  const put = (next: { name: string; text: string }[]) =>
    set({ name: f.name, pairs: next.length > 0 ? next : undefined });
  return (
    <Box>
      {pairs.map((p) => (
        <HStack key={p.name} gap="1" mb="1">
          <Text fontSize="sm" flex="1" minW="0" overflowWrap="anywhere">
            {p.name} → <b>{p.text}</b>
          </Text>
          <Press
            plain
            size="xs"
            h="6"
            aria-label={`Without ${p.name}`}
            onClick={() => put(pairs.filter((x) => x.name !== p.name))}
          >
            ×
          </Press>
        </HStack>
      ))}
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
