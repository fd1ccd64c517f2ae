import type { Schemas } from "../../client/client";

/** What can come at a place of a text, and what it is for. */
export type Offer = { text: string; says?: string };

type Known = Pick<Schemas["Checked"], "sections" | "columns" | "functions" | "codes" | "datasets">;

const plain = /^[\p{L}_][\p{L}\p{N}_]*$/u;

/** A column as a condition names it. */
export const named = (column: string) => (plain.test(column) ? column : `"${column.replaceAll('"', '""')}"`);

const words = ["AND", "OR", "NOT", "IS NULL", "IS NOT NULL", "IN", "BETWEEN", "LIKE"];

/** What can come in a condition. */
export function conditionOffers(known: Known | undefined): Offer[] {
  return known
    ? [
        ...known.columns.map((c) => ({ text: named(c), says: "a column" })),
        ...known.functions.map((f) => ({ text: f, says: "a function" })),
        ...words.map((w) => ({ text: w })),
      ]
    : [];
}

/** What can come at a place of a declaration: fields, their values, columns and functions in a condition. */
export function declarationOffers(text: string, at: number, known: Known | undefined): Offer[] {
  if (!known) {
    return [];
  }
  const lines = text.slice(0, at).split("\n");
  const line = lines[lines.length - 1];
  const field = /^(?:.*[{,]|\s*-)?\s*([a-z_]+): *["'[]?([^{}]*)$/.exec(line);
  const top = lines.findLast((l) => /^[a-z_]+:/.test(l));
  const section =
    known.sections.find((s) => top?.startsWith(`${s.name}:`)) ?? known.sections.find((s) => s.single);
  const form = section?.form.find((f) => f.name === field?.[1]);
  if (
    field &&
    (form?.kind === "condition" || field[1] === "condition" || field[1] === "when" || field[1] === "total")
  ) {
    return conditionOffers(known);
  }
  if (field && form && (/\[[^\]]*$/.test(line) || field[2].trim() === "")) {
    return valuesOf(form, known);
  }
  if (line === "") {
    // The declaration's own fields stand at its beginning, as the names of sections do.
    return [
      ...known.sections.flatMap((s) =>
        s.single && s.name !== "reading" ? s.form : [{ name: s.name, says: s.title }],
      ),
      ...(known.sections.some((s) => s.name === "rulebook")
        ? [{ name: "code_lists", says: "lists of codes" }]
        : []),
    ].map((f) => ({ text: `${f.name}:`, says: f.says }));
  }
  if (section && /(^\s+-?\s*|[{,]\s*)$/.test(line)) {
    return section.form.map((f) => ({ text: `${f.name}: `, says: f.says }));
  }
  return [];
}

function valuesOf(form: Schemas["FieldForm"], known: Known): Offer[] {
  switch (form.kind) {
    case "choice":
      return form.choices?.map((text) => ({ text })) ?? [];
    case "truth":
      return [{ text: "true" }, { text: "false" }];
    case "column":
    case "columns":
      return known.columns.map((text) => ({ text }));
    case "codes":
      return known.codes.map((text) => ({ text }));
    case "datasets":
      return known.datasets.map((text) => ({ text }));
    default:
      return [];
  }
}
