import { chakra } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { proposedSteps } from "../client/queries";
import { stepName } from "./ledger";

/** The way to a fix plan with a step more in it, filled in. */
export function PutStep({
  table,
  fields,
  title,
  children,
}: {
  table: number;
  fields: Schemas["Field"][];
  title?: string;
  children: string;
}) {
  return (
    <Link
      to="/tables/$id/fix"
      params={{ id: String(table) }}
      search={{ put: JSON.stringify(fields) }}
      title={title}
    >
      {children}
    </Link>
  );
}

/** What would put right a finding or a lead of a delivery: each step opens a fix plan with it. */
export function PutRight({
  t,
  finding,
  lead,
  column,
}: {
  t: Pick<Schemas["Table"], "id" | "origin">;
  finding?: string;
  lead?: string;
  column?: string;
}) {
  const steps = useQuery({ ...proposedSteps(t.id), enabled: t.origin === "delivery" });
  const mine = (steps.data ?? []).filter((s) =>
    finding ? s.finding === finding : s.lead === lead && (s.column ?? "") === (column ?? ""),
  );
  if (mine.length === 0) {
    return null;
  }
  return (
    <chakra.span fontSize="sm" color="quiet">
      put right:{" "}
      {mine.map((s, i) => (
        <span key={JSON.stringify(s.fields)}>
          {i > 0 && ", "}
          <PutStep table={t.id} fields={s.fields} title={s.doubt && `To be looked at: ${s.doubt}.`}>
            {named(s)}
          </PutStep>
        </span>
      ))}
    </chakra.span>
  );
}

/** What the step does, with what tells it from others of its kind. */
function named(s: Schemas["Step"]): string {
  const of = (name: string) => s.fields.find((f) => f.name === name)?.value;
  const more = of("sure") ? " (suggested)" : of("unit") ? ` ${of("unit")}` : "";
  return stepName(of("do") ?? "") + more;
}
