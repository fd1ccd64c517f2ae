import { chakra, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "../client/client";
import { rowSteps } from "../client/queries";
import { Choice, Press } from "../shared/controls";
import { Trouble } from "../shared/states";
import { count } from "../shared/words";
import { stepName } from "./ledger";
import { PutStep } from "./PutRight";

/** How many rows a step names; more are chosen by a condition. */
const most = 20;

/** What can be done with rows of a delivery, or with a cell of it where it is one row: each step opens a fix plan with it. */
export function PutRows({ t, rows, columns }: { t: Schemas["Table"]; rows: number[]; columns: string[] }) {
  const [open, setOpen] = useState(false);
  const [cell, setCell] = useState("");
  const column = rows.length === 1 ? cell : "";
  const named = rows.length <= most;
  const steps = useQuery({ ...rowSteps(t.id, rows, column), enabled: open && named });
  if (t.origin !== "delivery") {
    return null;
  }
  if (!open) {
    return (
      <Press plain size="xs" h="6" onClick={() => setOpen(true)}>
        Put right …
      </Press>
    );
  }
  if (!named) {
    return (
      <Text role="status">
        A step names up to {count(most)} rows one by one; more of them are meant by a condition, as in "only
        rows where …".
      </Text>
    );
  }
  return (
    <>
      {rows.length === 1 && (
        <Choice
          aria-label="What of the row"
          value={cell}
          onChange={(e) => setCell(e.target.value)}
          maxW="180px"
        >
          <option value="">the whole row</option>
          {columns.map((c) => (
            <option key={c}>{c}</option>
          ))}
        </Choice>
      )}
      <chakra.span color="quiet" role="status">
        put right: {steps.isLoading && "looking for what tells them from others …"}
        {(steps.data ?? []).map((s, i) => (
          <span key={JSON.stringify(s.fields)}>
            {i > 0 && ", "}
            <PutStep table={t.id} fields={s.fields}>
              {words[s.fields[0].value ?? ""] ?? stepName(s.fields[0].value ?? "")}
            </PutStep>
            {s.doubt && ` (${s.doubt})`}
          </span>
        ))}
      </chakra.span>
      <Trouble error={steps.error} />
    </>
  );
}

/** What the steps do to what was chosen. */
const words: Record<string, string> = {
  set_cell: "set this cell",
  replace: "replace this text wherever it stands",
  set_missing: "empty this cell",
  set_aside: "set aside",
};
