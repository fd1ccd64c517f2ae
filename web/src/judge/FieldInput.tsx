import type { Schemas } from "../client/client";
import { Choice, Field } from "../shared/controls";
import { useEntry } from "../shared/Entry";

type Outlined = Schemas["Outlined"];

/** A field that is set when it is left, or when enter is pressed, so that each change is one. */
export function Settled(props: {
  f: Schemas["FieldForm"];
  o: Outlined;
  value: string;
  set: (v: string) => void;
}) {
  const { value, setValue, done } = useEntry(props.value, props.set);
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

const delimiterWords: Record<string, string> = {
  ",": "comma",
  ";": "semicolon",
  "\t": "tab",
  "|": "bar",
  ":": "colon",
  " ": "space",
};

const placeholders: Record<string, string> = {
  columns: "columns, with commas",
  texts: "texts, with commas",
  elsewhere: "dataset: its columns",
};

/** A field of a form, by its kind. */
export function Input(props: {
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
        aria-required={props.required}
        w="full"
        maxW="260px"
        onChange={(e) => set(e.target.value)}
      >
        <option value="">{props.required ? `${f.name} …` : "not declared"}</option>
        {value !== "" && !offered.includes(value) && <option>{value}</option>}
        {offered.map((c) => (
          <option key={c} value={c}>
            {f.name === "delimiter" ? (delimiterWords[c] ?? c) : c}
          </option>
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
