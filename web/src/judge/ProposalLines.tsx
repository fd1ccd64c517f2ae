import { chakra, HStack, Text } from "@chakra-ui/react";
import type { Schemas } from "../client/client";
import { Grid, Td, Th } from "../shared/grid";
import { Value } from "../shared/Value";

export type Choice = Schemas["Choice"];
type Line = Schemas["Line"];
type Part = Schemas["Part"];

const titles: Record<string, string> = {
  reading: "What stands for nothing",
  columns: "Columns",
  keys: "Keys: what names one row",
  equal_rows: "Rows that repeat another",
  rules: "Rules for rows",
  references: "What refers to other datasets",
  table_rules: "Rules for the table as a whole",
  history: "Compared with the deliveries before",
  measures: "Measures, in which findings are told",
};

/** The lines of a proposal by the sections of a rulebook, in its order. */
export function sections(lines: Line[]): { name: string; title: string; lines: Line[] }[] {
  return Object.entries(titles)
    .map(([name, title]) => ({ name, title, lines: lines.filter((l) => l.section === name) }))
    .filter((s) => s.lines.length > 0);
}

/** What was chosen before, as it was kept; what is none of ours is none. */
export function choiceOf(kept: string | undefined): Choice {
  try {
    const found = JSON.parse(kept ?? "{}");
    return found && typeof found === "object" ? found : {};
  } catch {
    return {};
  }
}

const same = (a: Schemas["Pick"], b: Schemas["Pick"]) =>
  a.section === b.section && a.item === b.item && a.part === b.part;

function isTaken(choice: Choice, pick: Schemas["Pick"], part: Part): boolean {
  const list = (part.suggested ? choice.taken : choice.left) ?? [];
  return list.some((p) => same(p, pick)) === part.suggested;
}

function toggled(choice: Choice, pick: Schemas["Pick"], part: Part): Choice {
  const name = part.suggested ? "taken" : "left";
  const list = choice[name] ?? [];
  const others = list.filter((p) => !same(p, pick));
  const next = others.length < list.length ? others : [...list, pick];
  return { ...choice, [name]: next.length > 0 ? next : undefined };
}

type Shown = { lines: Line[]; choice: Choice; change: (choice: Choice) => void };

/** Lines of a proposal: what each declares, its evidence, and a tick for what can be left. */
export function ProposalLines(props: Shown) {
  const { lines } = props;
  return (
    <Grid label={`Lines: ${titles[lines[0].section]}`} max="560px">
      <thead>
        <tr>
          <Th w="190px">of</Th>
          <Th w="400px">declares</Th>
          <Th>because</Th>
        </tr>
      </thead>
      <tbody>
        {lines.map((l) =>
          lists.includes(l.section) ? (
            <Listed key={l.item} line={l} {...props} />
          ) : (
            <OneLine key={l.item} line={l} {...props} />
          ),
        )}
      </tbody>
    </Grid>
  );
}

/** Sections whose lines are lists of what is alike. */
const lists = ["reading", "measures"];

function OneLine({ line, choice, change }: Shown & { line: Line }) {
  return shownParts(line).map((part, i, all) => (
    <tr key={`${part.name} ${part.evidence}`}>
      {i === 0 && (
        <Td rowSpan={all.length} fontWeight="600" wordBreak="break-word">
          {line.item}
        </Td>
      )}
      <Td>
        <Declared line={line} part={part} choice={choice} change={change} />
      </Td>
      <Td>
        {because(part)}
        {part.detail && (
          <Text fontSize="sm" color="quiet">
            {part.detail}
          </Text>
        )}
      </Td>
    </tr>
  ));
}

/** What is alike stands side by side, by what speaks for it. */
function Listed({ line, choice, change }: Shown & { line: Line }) {
  const reasons = [...new Set(line.parts.map((p) => p.evidence))];
  return reasons.map((evidence) => (
    <tr key={evidence}>
      <Td fontWeight="600">{line.item}</Td>
      <Td>
        <HStack gap="4" rowGap="1" flexWrap="wrap">
          {line.parts
            .filter((p) => p.evidence === evidence)
            .map((p) => (
              <Declared key={p.name} line={line} part={p} choice={choice} change={change} />
            ))}
        </HStack>
      </Td>
      <Td>{evidence}</Td>
    </tr>
  ));
}

/** What speaks for a part; where nothing is written down, that nothing speaks against it. */
function because(part: Part): string {
  const reason = part.fields.find((f) => f.startsWith("reason: "));
  if (part.evidence || !reason) {
    return part.evidence || (part.name === "required" ? "every cell is filled" : "");
  }
  return unquoted(reason.slice("reason: ".length));
}

/** The parts that say something: the name of a column alone does not, unless it is all that is said of it. */
function shownParts(l: Line): Part[] {
  const parts = l.parts.filter((p) => !(p.fixed && p.fields.every((f) => f.startsWith("name: "))));
  return parts.length > 0 ? parts : l.parts;
}

function Declared(props: { line: Line; part: Part; choice: Choice; change: (choice: Choice) => void }) {
  const { line, part, choice } = props;
  const words = inWords(part);
  if (part.fields.length === 0) {
    return <chakra.span color="quiet">worth knowing</chakra.span>;
  }
  if (part.fixed) {
    return <chakra.span>{words}</chakra.span>;
  }
  const pick = { section: line.section, item: line.item, part: part.name };
  const taken = isTaken(choice, pick, part);
  return (
    <chakra.label display="flex" gap="2" alignItems="baseline" color={taken ? "ink" : "quiet"}>
      <input
        type="checkbox"
        checked={taken}
        aria-label={`${line.item}: ${words}`}
        onChange={() => props.change(toggled(choice, pick, part))}
      />
      <span>{words === part.fields[0] && !words.includes(": ") ? <Value text={words} /> : words}</span>
    </chakra.label>
  );
}

/** What the fields of a part say, as people say it. */
export function inWords(part: Part): string {
  const fields = part.fields.map((f) => {
    const at = f.indexOf(": ");
    return at < 0 ? { name: "", value: f } : { name: f.slice(0, at), value: unquoted(f.slice(at + 2)) };
  });
  const of = (name: string) => fields.find((f) => f.name === name)?.value;
  if (of("from") !== undefined && of("to") !== undefined) {
    return `from ${of("from")} to ${of("to")}`;
  }
  return fields
    .filter((f) => f.name !== "id" && f.name !== "reason" && !(f.name === "name" && fields.length > 1))
    .map((f) => {
      switch (true) {
        case f.name === "":
          return f.value;
        case f.name === "name":
          return "a text";
        case f.name === "new_codes":
          return "new codes are told and cost nothing";
        case f.name === "codes":
          return "one of a list";
        case f.name === "type" && f.value === "code":
          return "a code";
        case f.name === "condition":
          return f.value;
        case f.name === "check":
          return f.value.replaceAll("_", " ");
        case f.value === "true":
          return f.name.replaceAll("_", " ");
        default:
          return `${f.name.replaceAll("_", " ")} ${f.value.replace(/^\[(.*)\]$/, "$1")}`;
      }
    })
    .join(", ");
}

function unquoted(value: string): string {
  if (value.startsWith('"') && value.endsWith('"')) {
    try {
      return JSON.parse(value);
    } catch {
      return value;
    }
  }
  return value;
}
