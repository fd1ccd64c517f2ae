import { HStack, Text } from "@chakra-ui/react";
import { useSearch } from "@tanstack/react-router";
import type { Schemas } from "../../client/client";
import { liesThere } from "../../deliver/there";
import { rowsFile } from "../../shared/addresses";
import { Field, Press } from "../../shared/controls";
import { count, plural } from "../../shared/words";
import { SaveForAnalysis } from "./SaveForAnalysis";

/** Where one is among the rows, and ways to go further, choose what is in sight, and take all away. */
export function GridFoot(props: {
  t: Schemas["Table"];
  first: Schemas["RowsPage"];
  total: number;
  at: number;
  fit: number;
  goTo: (row: number) => void;
  order: string[];
  chooseShown: () => void;
}) {
  const search = useSearch({ from: "/tables/$id" });
  const { at, fit, total, first, order } = props;
  const asInFile = order.length === first.columns.length && order.every((c, i) => c === first.columns[i]);
  return (
    <HStack mt="1" justify="space-between" fontSize="sm" flexWrap="wrap">
      <Text color="quiet" role="status">
        {search.sort ? "Places" : "Rows"} {count(at + 1)} to {count(Math.min(at + fit, total))} of{" "}
        {plural(total, "row", "rows")}
        {first.total < 0 && ", which are not counted yet"}
        {order.length < first.columns.length &&
          `; ${count(order.length)} of ${plural(first.columns.length, "column", "columns")}`}
      </Text>
      <HStack gap="3" flexWrap="wrap">
        {!liesThere(props.t) && (
          <Press plain size="xs" h="6" onClick={props.chooseShown}>
            Choose these rows
          </Press>
        )}
        <form
          onSubmit={(e) => {
            e.preventDefault();
            props.goTo(Number(new FormData(e.currentTarget).get("row")) - 1);
          }}
        >
          <Field
            name="row"
            type="number"
            min={1}
            max={total}
            aria-label="Go to row"
            placeholder="go to …"
            w="110px"
            h="6"
          />
        </form>
        <Press plain size="xs" h="6" onClick={() => props.goTo(total)}>
          Last row
        </Press>
        {!liesThere(props.t) && (
          <>
            <a
              href={rowsFile(props.t.id, search, asInFile ? [] : order)}
              download
              title="Every row that is chosen by the fields above, in the order of the file"
            >
              Save all {count(total)} as they stand
            </a>
            <SaveForAnalysis id={props.t.id} search={search} columns={asInFile ? [] : order} />
          </>
        )}
      </HStack>
    </HStack>
  );
}
