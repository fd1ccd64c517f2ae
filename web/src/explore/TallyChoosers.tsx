import { HStack, Text } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import type { Schemas } from "../client/client";
import { Choice, Field, Press } from "../shared/parts";
import { type Grouping, grains, usualGrouping, weekday } from "./expressions";

type Column = Schemas["Column"];

const other = "\u0000written";

/** Chooses by what rows are grouped: a column, with the period or step that fits it, or an expression. */
export function ByChooser(props: {
  label: string;
  none?: string;
  columns: Column[];
  value: Grouping;
  choose: (g: Grouping | undefined) => void;
}) {
  const { label, columns, value, choose } = props;
  const column = columns.find((c) => c.name === value.column);
  const dated = column?.type === "date" || column?.type === "datetime";
  return (
    <HStack gap="2">
      <Text>{label}</Text>
      <Choice
        aria-label={label}
        value={value.written !== undefined ? other : (value.column ?? "")}
        onChange={(e) => {
          const chosen = columns.find((c) => c.name === e.target.value);
          choose(e.target.value === other ? { written: "" } : chosen ? usualGrouping(chosen) : undefined);
        }}
      >
        {props.none && <option value="">{props.none}</option>}
        {columns.map((c) => (
          <option key={c.name} value={c.name}>
            {c.name}
          </option>
        ))}
        <option value={other}>an expression …</option>
      </Choice>
      {value.written !== undefined && (
        <Written
          label={`${label}, as an expression`}
          hint="as LENGTH(name)"
          value={value.written}
          set={(written) => choose({ written })}
        />
      )}
      {dated && (
        <Choice
          aria-label={`${label}, by period`}
          value={value.grain ?? ""}
          onChange={(e) => choose({ column: value.column, grain: e.target.value || undefined })}
        >
          {grains
            .filter((g) => g !== "hour" || column?.type === "datetime")
            .map((g) => (
              <option key={g} value={g}>
                by {g}
              </option>
            ))}
          <option value={weekday}>by weekday</option>
          <option value="">as it is</option>
        </Choice>
      )}
      {column?.numbers && (
        <>
          <Text>in steps of</Text>
          <Written
            label={`${label}, in steps of`}
            hint="none"
            w="80px"
            value={value.step ?? ""}
            check={(v) => v === "" || (Number(v) > 0 && /^[0-9.]+$/.test(v))}
            set={(step) => choose({ column: value.column, step: step || undefined })}
          />
        </>
      )}
    </HStack>
  );
}

const ofNumbers = ["sum", "mean", "median", "first_quartile", "third_quartile", "lowest", "highest"];
const ofAny = ["filled", "distinct"];

/** Chooses what is told of each group: one measure, or several. */
export function MeasureChooser(props: {
  columns: Column[];
  value: string[];
  choose: (measures: string[] | undefined) => void;
}) {
  const { value, choose, columns } = props;
  const set = (i: number, m: string) => choose(value.map((v, k) => (k === i ? m : v)));
  return (
    <HStack gap="2" flexWrap="wrap">
      <Text>tell</Text>
      {value.map((m, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a measure is known by its place
        <HStack key={i} gap="1">
          <OneMeasure label={`measure ${i + 1}`} columns={columns} value={m} set={(v) => set(i, v)} />
          {value.length > 1 && (
            <Press
              plain
              size="xs"
              h="6"
              aria-label={`Leave measure ${i + 1} out`}
              onClick={() => choose(value.filter((_, k) => k !== i))}
            >
              ×
            </Press>
          )}
        </HStack>
      ))}
      <Press plain size="xs" h="6" onClick={() => choose([...value, "rows"])}>
        and another
      </Press>
    </HStack>
  );
}

function OneMeasure(props: { label: string; columns: Column[]; value: string; set: (m: string) => void }) {
  const at = props.value.indexOf(" ");
  const kind = at < 0 ? props.value : props.value.slice(0, at);
  const of = at < 0 ? "" : props.value.slice(at + 1);
  const numbers = props.columns.filter((c) => c.numbers);
  const fits = ofNumbers.includes(kind) ? numbers : props.columns;
  const quote = (name: string) => `"${name.replaceAll('"', '""')}"`;
  return (
    <>
      <Choice
        aria-label={props.label}
        value={kind}
        onChange={(e) => {
          const next = e.target.value;
          const among = ofNumbers.includes(next) ? numbers : props.columns;
          const same = among.find((c) => quote(c.name) === of) ?? among[0];
          props.set(next === "rows" || !same ? "rows" : `${next} ${quote(same.name)}`);
        }}
      >
        <option value="rows">the number of rows</option>
        {[...(numbers.length > 0 ? ofNumbers : []), ...ofAny].map((k) => (
          <option key={k} value={k}>
            {k === "filled" ? "filled cells" : k === "distinct" ? "different values" : k.replaceAll("_", " ")}{" "}
            of
          </option>
        ))}
      </Choice>
      {kind !== "rows" && (
        <Choice
          aria-label={`${props.label}, of`}
          value={of}
          onChange={(e) => props.set(`${kind} ${e.target.value}`)}
        >
          {!fits.some((c) => quote(c.name) === of) && <option value={of}>{of}</option>}
          {fits.map((c) => (
            <option key={c.name} value={quote(c.name)}>
              {c.name}
            </option>
          ))}
        </Choice>
      )}
    </>
  );
}

/** A text that counts when it is left, or when enter is pressed. */
export function Written(props: {
  label: string;
  hint: string;
  value: string;
  w?: string;
  check?: (value: string) => boolean;
  set: (value: string) => void;
}) {
  const [value, setValue] = useState(props.value);
  useEffect(() => setValue(props.value), [props.value]);
  const good = props.check?.(value) ?? true;
  const done = () => good && value !== props.value && props.set(value.trim());
  return (
    <Field
      aria-label={props.label}
      aria-invalid={!good}
      placeholder={props.hint}
      fontFamily="mono"
      w={props.w ?? "220px"}
      value={value}
      onChange={(e) => setValue(e.target.value)}
      onBlur={done}
      onKeyDown={(e) => {
        if (e.key === "Enter") {
          e.preventDefault();
          done();
        }
      }}
    />
  );
}
