import { HStack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../../client/client";
import { refresh } from "../../client/queries";
import { PutRows } from "../../putright/PutRows";
import { Press } from "../../shared/controls";
import { copyTable } from "../../shared/copy";
import { Trouble } from "../../shared/states";
import { said } from "../../shared/toasts";
import { plural } from "../../shared/words";
import { type Layout, ordered } from "./layout";

type Row = Schemas["ShownRow"];

/** The rows that a person ticked, by their number, with their cells; they stay while one scrolls. */
export function useChosen() {
  const [rows, setRows] = useState(new Map<number, Row>());
  return {
    rows,
    has: (row: number) => rows.has(row),
    choose: (more: Row[], fewer: number[]) =>
      setRows((was) => {
        const next = new Map(was);
        for (const r of more) {
          next.set(r.row, r);
        }
        for (const row of fewer) {
          next.delete(row);
        }
        return next;
      }),
    clear: () => setRows(new Map()),
  };
}

/** What can be done with the rows that are ticked: an issue, a step of a fix plan, or a table for elsewhere. */
export function ChosenRows(props: {
  t: Schemas["Table"];
  by: number | undefined;
  chosen: ReturnType<typeof useChosen>;
  columns: string[];
  layout: Layout;
}) {
  const { by, chosen, columns } = props;
  const order = ordered(columns, props.layout);
  const client = useQueryClient();
  const numbers = [...chosen.rows.keys()].sort((a, b) => a - b);
  const made = useMutation({
    mutationFn: () =>
      take(api.POST("/audits/{id}/issues", { params: { path: { id: by ?? 0 } }, body: { rows: numbers } })),
    onSuccess: () => refresh(client, "issue"),
  });
  const copied = useMutation({
    mutationFn: () =>
      copyTable([
        ["row", ...order],
        ...numbers.map((n) => {
          const r = chosen.rows.get(n);
          return [String(n), ...order.map((c) => r?.cells[columns.indexOf(c)] ?? "")];
        }),
      ]),
    onSuccess: () => said("Copied, with the columns that are shown."),
  });
  if (numbers.length === 0) {
    return null;
  }
  return (
    <HStack role="group" aria-label="Chosen rows" gap="3" mb="2" flexWrap="wrap" fontSize="sm">
      <Text role="status">{plural(numbers.length, "row is", "rows are")} chosen.</Text>
      {by !== undefined && (
        <Press needs="work" size="xs" h="6" onClick={() => made.mutate()} loading={made.isPending}>
          Make an issue of them
        </Press>
      )}
      <Press plain size="xs" h="6" onClick={() => copied.mutate()}>
        Copy as a table
      </Press>
      <Press plain size="xs" h="6" onClick={chosen.clear}>
        Choose none
      </Press>
      {numbers.length === 1 && props.t.origin !== "delivery" && (
        <Link
          to="/tables/$id"
          params={{ id: String(props.t.id) }}
          search={{ view: "lineage", row: numbers[0] }}
        >
          Where it is from
        </Link>
      )}
      <PutRows t={props.t} rows={numbers} columns={order} />
      {made.data && (
        <Text role="status">
          It is{" "}
          <Link to="/issues/$id" params={{ id: String(made.data.id) }}>
            issue {made.data.id}
          </Link>
          .
        </Text>
      )}
      <Trouble error={made.error ?? copied.error} />
    </HStack>
  );
}
