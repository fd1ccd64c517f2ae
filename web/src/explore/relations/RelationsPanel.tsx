import { HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import type { Schemas } from "../../client/client";
import { correlations } from "../../client/queries";
import type { TableSearch } from "../../shared/addresses";
import { Choice } from "../../shared/controls";
import { Section } from "../../shared/parts";
import { Empty, Shown } from "../../shared/states";
import { HeatMap } from "./HeatMap";
import { Keys } from "./Keys";
import { PairPanel } from "./PairPanel";
import { Ranked } from "./Ranked";

/** What the columns have to do with one another. */
export function RelationsPanel({ t, a }: { t: Schemas["Table"]; a: Schemas["AuditShown"] }) {
  return (
    <>
      <Keys t={t} />
      <Correlations t={t} numbers={a.result.columns.filter((c) => c.numbers).length} />
    </>
  );
}

/** From how many columns on the numbers of a heat map are left out unless they are asked for. */
const crowded = 20;

function Correlations({ t, numbers }: { t: Schemas["Table"]; numbers: number }) {
  const found = useQuery(correlations(t.id));
  const search = useSearch({ from: "/tables/$id" });
  const navigate = useNavigate();
  const change = (what: Partial<TableSearch>) =>
    navigate({
      to: "/tables/$id",
      params: { id: String(t.id) },
      search: { ...search, view: "relations", ...what },
    });
  return (
    <Section title="Correlations of the columns of numbers">
      <Shown query={found} waiting="Looking through all rows …">
        {(c) => {
          if (c.columns.length < 2) {
            return <Empty>Fewer than two columns hold numbers, so that nothing can be correlated.</Empty>;
          }
          const known = (name?: string) => (c.columns.includes(name ?? "") ? name : undefined);
          const column = known(search.column);
          const other = known(search.across);
          const ranks = search.kind === "ranks";
          const withNumbers =
            search.show === "numbers" || (search.show !== "marks" && c.columns.length <= crowded);
          return (
            <>
              {c.columns.length < numbers && (
                <Text fontSize="sm" color="quiet">
                  The first {c.columns.length} of {numbers} columns of numbers are held against one another.
                </Text>
              )}
              <HStack gap="4" fontSize="sm" flexWrap="wrap" mb="1">
                <Choice
                  aria-label="Correlations of one column"
                  value={column ?? ""}
                  onChange={(e) => change({ column: e.target.value || undefined, across: undefined })}
                >
                  <option value="">all pairs, the strongest first</option>
                  {c.columns.map((n) => (
                    <option key={n}>{n}</option>
                  ))}
                </Choice>
                <Choice
                  aria-label="What is drawn"
                  value={ranks ? "ranks" : "linear"}
                  onChange={(e) => change({ kind: e.target.value === "ranks" ? "ranks" : undefined })}
                >
                  <option value="linear">linear correlation (Pearson)</option>
                  <option value="ranks">correlation of ranks (Spearman)</option>
                </Choice>
                <label>
                  <input
                    type="checkbox"
                    checked={withNumbers}
                    onChange={(e) => change({ show: e.target.checked ? "numbers" : "marks" })}
                  />{" "}
                  numbers
                </label>
              </HStack>
              <HStack align="start" gap="8" flexWrap="wrap">
                <HeatMap c={c} chosen={column} ranks={ranks} numbers={withNumbers} choose={change} />
                <Ranked c={c} chosen={column} ranks={ranks} choose={change} />
              </HStack>
              {column && other && column !== other && <PairPanel t={t} c={c} x={column} y={other} />}
            </>
          );
        }}
      </Shown>
    </Section>
  );
}
