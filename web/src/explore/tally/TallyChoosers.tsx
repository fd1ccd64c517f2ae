import { HStack, Text } from "@chakra-ui/react";
import type { Schemas } from "../../client/client";
import { Choice, Press } from "../../shared/controls";
import { Entry } from "../../shared/Entry";
import { quoted } from "../../shared/words";
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
        <Entry
          w="220px"
          label={`${label}, as an expression`}
          fontFamily="mono"
          placeholder="as LENGTH(name)"
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
          <Entry
            label={`${label}, in steps of`}
            fontFamily="mono"
            placeholder="none"
            w="80px"
            value={value.step ?? ""}
            check={(v) =>
              v === "" || (Number(v) > 0 && /^[0-9.]+$/.test(v)) ? undefined : "A step is a number above 0."
            }
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
  return (
    <>
      <Choice
        aria-label={props.label}
        value={kind}
        onChange={(e) => {
          const next = e.target.value;
          const among = ofNumbers.includes(next) ? numbers : props.columns;
          const same = among.find((c) => quoted(c.name) === of) ?? among[0];
          props.set(next === "rows" || !same ? "rows" : `${next} ${quoted(same.name)}`);
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
          {!fits.some((c) => quoted(c.name) === of) && <option value={of}>{of}</option>}
          {fits.map((c) => (
            <option key={c.name} value={quoted(c.name)}>
              {c.name}
            </option>
          ))}
        </Choice>
      )}
    </>
  );
}
