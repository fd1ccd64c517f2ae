import { useMutation } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { api, type Schemas, take } from "./client";

/**
 * Changes by forms are made in the text, one after the other, each to what the one before left. What is done with the text
 * afterwards takes the same scope and the latest text: a field that was just left belongs to it.
 */
export function useEdits(kind: "fix-plans" | "merges", source: string, onChange: (source: string) => void) {
  const scope = { id: `edits of ${kind}` };
  const latest = useRef(source);
  useEffect(() => {
    latest.current = source;
  }, [source]);
  const edit = useMutation({
    scope,
    mutationFn: async (change: Schemas["StepChange"]) => {
      const body = { source: latest.current, changes: [change] };
      const edited =
        kind === "merges"
          ? await take(api.POST("/merges/edit", { body }))
          : await take(api.POST("/fix-plans/edit", { body }));
      latest.current = edited.source;
      return edited;
    },
    onSuccess: (edited) => onChange(edited.source),
  });
  return { edit, latest, scope };
}
