import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import type { ReactNode } from "react";
import type { Schemas } from "../client/client";
import type { ReadingWish } from "../client/queries";
import { Choice, Press } from "../shared/controls";
import { Entry } from "../shared/Entry";
import { joined, split } from "../shared/lists";

type Look = Schemas["LookedAt"];
type Name = keyof ReadingWish;
type Option = { value: string; label: string };

const encodings: Option[] = [
  "utf-8",
  "utf-16le",
  "utf-16be",
  "windows-1252",
  "iso-8859-1",
  "iso-8859-15",
].map((value) => ({ value, label: value }));
const delimiters: Option[] = [
  { value: ",", label: "comma" },
  { value: ";", label: "semicolon" },
  { value: "\t", label: "tab" },
  { value: "|", label: "bar" },
  { value: ":", label: "colon" },
  { value: " ", label: "space" },
];
const quotes: Option[] = [
  { value: '"', label: '"' },
  { value: "'", label: "'" },
  { value: "none", label: "nothing" },
];
const decimalMarks: Option[] = [
  { value: ".", label: "point" },
  { value: ",", label: "comma" },
];
const groupingMarks: Option[] = [
  { value: "", label: "nothing" },
  { value: ".", label: "point" },
  { value: ",", label: "comma" },
  { value: " ", label: "space" },
  { value: "'", label: "apostrophe" },
  { value: "\u00a0", label: "space that does not break" },
  { value: "\u202f", label: "narrow space" },
  { value: "\u2019", label: "raised comma" },
];

/** How a file is read, and why; each of it can be said otherwise, and the rows follow. */
export function ReadingForm(props: { look: Look; wish: ReadingWish; change: (wish: ReadingWish) => void }) {
  const { look, wish, change } = props;
  const r = look.reading;
  const set = (name: Name, value: ReadingWish[Name] | undefined) => {
    const next = { ...wish, [name]: value };
    if (value === undefined) {
      delete next[name];
    }
    change(next);
  };
  const one = (name: Name, label: string, current: string, options: Option[]) => (
    <Pick label={label} value={current} options={options} choose={(v) => set(name, v)} />
  );
  const text = look.format === "delimited";
  const rows: { name: Name; label: string; aspects: string[]; control: ReactNode }[] = [
    ...(text
      ? (
          [
            ["encoding", "encoding", ["encoding"], encodings],
            ["delimiter", "cells end with", ["delimiter"], delimiters],
            ["quote", "cells are quoted by", ["quote"], quotes],
          ] as const
        ).map(([name, label, aspects, options]) => ({
          name,
          label,
          aspects: [...aspects],
          control: one(name, label, r[name], options),
        }))
      : []),
    {
      name: "header_line",
      label: "line with the names",
      aspects: ["header", "lines before"],
      control: (
        <Entry
          label="line with the names"
          value={r.header_line < 0 ? "none" : String(r.header_line)}
          w="170px"
          placeholder="a line, or none"
          check={(v) =>
            v === "none" || /^[1-9]\d{0,4}$/.test(v) ? undefined : "A line counts from 1; or write none."
          }
          set={(v) => set("header_line", v === "none" ? -1 : Number(v))}
        />
      ),
    },
    {
      name: "closing",
      label: "lines at the end that are no rows begin with",
      aspects: ["closing lines"],
      control: (
        <Entry
          label="lines at the end that are no rows begin with"
          value={joined(r.closing ?? [])}
          w="170px"
          placeholder="nothing: all are rows"
          set={(v) => set("closing", split(v))}
        />
      ),
    },
    {
      name: "decimal_mark",
      label: "decimals are marked by a",
      aspects: ["decimal mark"],
      control: one("decimal_mark", "decimals are marked by a", r.decimal_mark, decimalMarks),
    },
    {
      name: "grouping_mark",
      label: "thousands are parted by",
      aspects: ["grouping mark"],
      control: one("grouping_mark", "thousands are parted by", r.grouping_mark ?? "", groupingMarks),
    },
    {
      name: "dates",
      label: "dates are written",
      aspects: ["dates"],
      control: (
        <Entry
          label="dates are written"
          value={joined(r.dates)}
          w="170px"
          placeholder="as dd.MM.yyyy"
          set={(v) => set("dates", v.trim() === "" ? undefined : split(v))}
        />
      ),
    },
    {
      name: "missing",
      label: "texts that stand for nothing",
      aspects: ["missing"],
      control: (
        <Entry
          label="texts that stand for nothing"
          value={joined(r.missing ?? [])}
          w="170px"
          placeholder="as n/a, -999"
          set={(v) => set("missing", v.trim() === "" ? undefined : split(v))}
        />
      ),
    },
    ...(r.sheet
      ? [
          {
            name: "sheet" as const,
            label: "sheet",
            aspects: ["sheet"],
            control: (
              <Entry label="sheet" w="170px" value={r.sheet} set={(v) => set("sheet", v || undefined)} />
            ),
          },
        ]
      : []),
  ];
  return rows.map((row) => (
    <Box key={row.name} borderTopWidth="1px" borderColor="line" py="1.5">
      <HStack justify="space-between" align="start" gap="3">
        <Text>{row.label}</Text>
        <Box flexShrink="0">{row.control}</Box>
      </HStack>
      <Box fontSize="sm" color="quiet">
        {wish[row.name] !== undefined ? (
          <HStack gap="3">
            <Text color="ink">You said so.</Text>
            <Press plain size="xs" h="6" onClick={() => set(row.name, undefined)}>
              Take that back
            </Press>
          </HStack>
        ) : (
          <Because evidence={look.evidence.filter((e) => row.aspects.some((a) => e.aspect.startsWith(a)))} />
        )}
      </Box>
    </Box>
  ));
}

const evidenceShown = 3;

const sureness = (e: Schemas["Evidence"]) => ["ambiguous", "likely", "certain"].indexOf(e.confidence);

function Because({ evidence }: { evidence: Schemas["Evidence"][] }) {
  if (evidence.length === 0) {
    return <chakra.span color="quiet">Nothing speaks for another way.</chakra.span>;
  }
  // What may be otherwise is looked at first; of many columns that are alike a few tell enough.
  const sorted = [...evidence].sort((a, b) => sureness(a) - sureness(b));
  return (
    <>
      {sorted.slice(0, evidenceShown).map((e) => (
        <Text key={e.aspect}>
          {e.confidence === "ambiguous" && <strong>It may be otherwise: </strong>}
          {e.aspect.startsWith("dates of ") && `${e.aspect.slice(9)}: ${e.found}; `}
          {e.because}
        </Text>
      ))}
      {sorted.length > evidenceShown && (
        <chakra.details>
          <chakra.summary color="accent">and {sorted.length - evidenceShown} more</chakra.summary>
          {sorted.slice(evidenceShown).map((e) => (
            <Text key={e.aspect}>
              {e.aspect.startsWith("dates of ") && `${e.aspect.slice(9)}: ${e.found}; `}
              {e.because}
            </Text>
          ))}
        </chakra.details>
      )}
    </>
  );
}

function Pick(props: { label: string; value: string; options: Option[]; choose: (value: string) => void }) {
  const known = props.options.some((o) => o.value === props.value);
  return (
    <Choice
      aria-label={props.label}
      value={props.value}
      minW="170px"
      onChange={(e) => props.choose(e.target.value)}
    >
      {!known && <option value={props.value}>{props.value}</option>}
      {props.options.map((o) => (
        <option key={o.value} value={o.value}>
          {o.label}
        </option>
      ))}
    </Choice>
  );
}
