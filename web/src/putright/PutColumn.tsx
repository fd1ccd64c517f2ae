import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { planOutlined } from "../client/queries";
import { Choice } from "../shared/controls";
import { StepOptions } from "./StepOptions";

/** A step for a column of a delivery, of any kind that takes one: it opens a fix plan with it. */
export function PutColumn({ t, column }: { t: Schemas["Table"]; column: string }) {
  const navigate = useNavigate();
  const delivery = t.origin === "delivery";
  const outline = useQuery({
    ...planOutlined(`fix_plan: ${t.dataset}_clean\ndataset: ${t.dataset}\nsteps: []\n`),
    enabled: delivery,
  });
  const takes = new Map(
    (outline.data?.kinds ?? []).flatMap((k) => {
      const f = k.fields.find((f) => f.required && (f.kind === "columns" || f.kind === "column"));
      return f ? [[k.name, f] as const] : [];
    }),
  );
  if (!delivery || takes.size === 0) {
    return null;
  }
  const put = (kind: string) => {
    const f = takes.get(kind);
    const field = {
      name: f?.name ?? "columns",
      ...(f?.kind === "column" ? { value: column } : { values: [column] }),
    };
    return navigate({
      to: "/tables/$id/fix",
      params: { id: String(t.id) },
      search: { put: JSON.stringify([{ name: "do", value: kind }, field]) },
    });
  };
  return (
    <Choice aria-label={`Put ${column} right`} value="" onChange={(e) => put(e.target.value)}>
      <option value="">put right …</option>
      <StepOptions kinds={[...takes.keys()]} />
    </Choice>
  );
}
