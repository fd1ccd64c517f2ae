import { Box, chakra, Text } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { count } from "../shared/words";
import type { Accounting } from "./accounting";

// What becomes of rows from the inputs of a merge to its table, as widths: every step is a bar, and each part of it opens its rows.

/** A part of a bar. Its pattern says what became of the rows, beside its words: no colour stands for it alone. */
type Part = {
  says: string;
  rows: number;
  pattern: "plain" | "hollow" | "hatched" | "doubled" | "dotted";
  /** Which rows of the merged table these are, or which table has them. */
  sourced?: string;
  table?: number;
  file?: string;
};

type Step = { name: string; parts: Part[]; beside?: string };

/** From how many tables of one dataset on they are one part. */
const many = 7;

/** The stacked tables; many of one dataset are told together. */
function inputsOf(a: Accounting): Part[] {
  const parts: Part[] = [];
  for (const dataset of new Set(a.inputs.map((i) => i.dataset))) {
    const own = a.inputs.filter((i) => i.dataset === dataset);
    const each = own.map(
      (i): Part => ({
        says: i.table ? `${dataset}, table ${i.table}` : dataset,
        rows: i.rows - (i.set_aside ?? 0),
        pattern: "plain",
        table: i.table,
      }),
    );
    parts.push(
      ...(own.length < many
        ? each
        : [
            {
              says: `of ${own.length} tables of ${dataset}`,
              rows: each.reduce((sum, p) => sum + p.rows, 0),
              pattern: "plain" as const,
            },
          ]),
    );
  }
  return parts;
}

function stepsOf(a: Accounting): Step[] {
  const steps: Step[] = [
    {
      name: "stacked",
      parts: [
        ...inputsOf(a),
        {
          says: "another row stands for them",
          rows: a.stack.set_aside ?? 0,
          pattern: "hatched",
          file: "unmet",
        },
      ],
      beside: a.inputs
        .filter((i) => i.grain)
        .map((i) => `${count(i.grain?.rows_before)} rows of ${i.dataset} became ${count(i.rows)}`)
        .join(" · "),
    },
  ];
  for (const j of a.joins) {
    steps.push({
      name: `joined with ${j.with}`,
      parts: [
        { says: "met", rows: j.matched, pattern: "plain", sourced: `met:${j.with}` },
        {
          says: "not met, kept",
          rows: j.unmatched - j.set_aside,
          pattern: "hollow",
          sourced: `unmet:${j.with}`,
        },
        { says: "multiplied", rows: j.multiplied, pattern: "doubled", sourced: `several:${j.with}` },
        { says: `of ${j.with} alone`, rows: j.added ?? 0, pattern: "dotted", sourced: `unasked:${j.with}` },
        { says: "not met, set aside", rows: j.set_aside, pattern: "hatched", file: "unmet" },
      ],
      beside: [
        ...(j.grain
          ? [`${count(j.grain.rows_before)} rows of ${j.with} became ${count(j.joined_rows)}`]
          : []),
        ...(j.joined_unused > 0
          ? [`no row asked for ${count(j.joined_unused)} of the ${count(j.joined_rows)} rows of ${j.with}`]
          : []),
      ].join(" · "),
    });
  }
  steps.push({
    name: "merged table",
    parts: [{ says: "rows", rows: a.rows, pattern: "plain", sourced: "" }],
  });
  return steps.map((s) => ({ ...s, parts: s.parts.filter((p) => p.rows > 0) }));
}

const backgrounds: Record<Part["pattern"], string> = {
  plain: "var(--chakra-colors-calm)",
  hollow: "transparent",
  hatched: "repeating-linear-gradient(135deg, currentColor 0 1.5px, transparent 1.5px 6px)",
  doubled: "repeating-linear-gradient(90deg, currentColor 0 2px, transparent 2px 6px)",
  dotted: "radial-gradient(currentColor 1.2px, transparent 1.4px) 0 0 / 6px 6px",
};

/** The picture; without a table nothing of it can be opened. */
export function AccountingPicture({ t, a }: { t?: Schemas["Table"]; a: Accounting }) {
  const steps = stepsOf(a);
  const most = Math.max(1, ...steps.map((s) => s.parts.reduce((sum, p) => sum + p.rows, 0)));
  return (
    <Box as="figure" aria-label="What becomes of rows" my="2" mx="0">
      {steps.map((s) => (
        <Box
          key={s.name}
          display="grid"
          gridTemplateColumns="minmax(120px, 170px) minmax(0, 1fr)"
          gap="3"
          mb="2"
          alignItems="start"
        >
          <Text fontSize="sm" fontWeight="600" overflowWrap="anywhere">
            {s.name}
          </Text>
          <Box minW="0">
            <Box display="flex" gap="2px" h="18px" aria-hidden="true">
              {s.parts.map((p) => (
                <Box
                  key={p.says}
                  flexShrink="0"
                  minW="3px"
                  borderWidth="1px"
                  borderColor="quiet"
                  color="quiet"
                  title={`${count(p.rows)} ${p.says}`}
                  style={{
                    width: `calc(${(100 * p.rows) / most}% - 2px)`,
                    background: backgrounds[p.pattern],
                  }}
                />
              ))}
            </Box>
            <Text fontSize="sm">
              {s.parts.map((p, i) => (
                <chakra.span key={p.says}>
                  {i > 0 && " · "}
                  <Opens t={t} p={p}>
                    {count(p.rows)} {p.says}
                  </Opens>
                </chakra.span>
              ))}
              {s.beside && <chakra.span color="quiet"> · {s.beside}</chakra.span>}
            </Text>
          </Box>
        </Box>
      ))}
    </Box>
  );
}

/** What opens the rows of a part, where there is a table that has them. */
function Opens({ t, p, children }: { t?: Schemas["Table"]; p: Part; children: React.ReactNode }) {
  if (p.table !== undefined) {
    return (
      <Link to="/tables/$id" params={{ id: String(p.table) }} search={{ view: "rows" }}>
        {children}
      </Link>
    );
  }
  if (t && p.file && t.unmet_digest) {
    return (
      <a href={`/api/v1/tables/${t.id}/bytes?what=${p.file}`} download>
        {children}
      </a>
    );
  }
  if (t?.row_map_digest && p.sourced !== undefined) {
    return (
      <Link
        to="/tables/$id"
        params={{ id: String(t.id) }}
        search={{ view: "rows", sourced: p.sourced || undefined }}
      >
        {children}
      </Link>
    );
  }
  return children;
}
