import type { Schemas } from "../client/client";
import { Grid, right, Td, Th } from "../shared/grid";
import { Empty } from "../shared/states";
import { count } from "../shared/words";

const turnWord: Record<string, string> = {
  new: "new",
  worse: "worse",
  better: "better",
  gone: "gone",
  same: "as before",
  "not asked before": "not asked before",
  "not asked any more": "not asked any more",
};

/** The rules that fare otherwise than in the earlier audit. */
export function RuleChanges({ c }: { c: Schemas["ComparisonShown"] }) {
  const changed = c.rules.filter((r) => r.turn !== "same");
  return changed.length === 0 ? (
    <Empty>Every rule is broken as it was before, or holds as it did.</Empty>
  ) : (
    <Grid label="What changed" max="260px">
      <thead>
        <tr>
          <Th>turn</Th>
          <Th>what must hold</Th>
          <Th {...right}>rows before</Th>
          <Th {...right}>rows now</Th>
        </tr>
      </thead>
      <tbody>
        {changed.map((r) => (
          <tr key={r.rule}>
            <Td fontWeight={r.turn === "new" || r.turn === "worse" ? "700" : "400"} whiteSpace="nowrap">
              {turnWord[r.turn]}
            </Td>
            <Td>{r.says}</Td>
            <Td {...right}>{count(r.rows.before)}</Td>
            <Td {...right}>{count(r.rows.after)}</Td>
          </tr>
        ))}
      </tbody>
    </Grid>
  );
}
