import { HStack } from "@chakra-ui/react";
import { useSearch } from "@tanstack/react-router";
import { pairs } from "../../shared/addresses";
import { Press } from "../../shared/controls";
import type { Change } from "./change";
import { says } from "./conditions";

/** What restricts the rows beside the fields above, a press each to take it away. */
export function Chips({ change }: { change: Change }) {
  const { is, only = [], column, estimated, sourced } = useSearch({ from: "/tables/$id" });
  const cells = pairs(is) ?? [];
  const taken = (at: number) => {
    const left = cells.filter((_, i) => i !== at);
    return left.length > 0 ? JSON.stringify(left) : undefined;
  };
  const chips = [
    ...cells.map(([c, v], i) => ({
      text: `${c} is ${v === "" ? "missing" : v}`,
      away: () => change({ is: taken(i) }),
    })),
    ...only.map((condition) => ({
      text: says(condition),
      away: () => change({ only: only.filter((o) => o !== condition) }),
    })),
    ...(sourced ? [{ text: sourcedSays(sourced), away: () => change({ sourced: undefined }) }] : []),
    ...(estimated
      ? [{ text: `${estimated} is an estimate`, away: () => change({ estimated: undefined }) }]
      : []),
    ...(column ? [{ text: `caught in ${column}`, away: () => change({ column: undefined }) }] : []),
  ];
  return chips.length === 0 ? null : (
    <HStack gap="2" mb="2" flexWrap="wrap" role="group" aria-label="Only rows for which all of this holds">
      {chips.map((c) => (
        <Press key={c.text} plain size="xs" h="6" onClick={c.away} title="Take this away">
          {c.text} ×
        </Press>
      ))}
    </HStack>
  );
}

/** What rows that are chosen by where they are from have in common. */
function sourcedSays(sourced: string): string {
  const [way, of] = sourced.split(":");
  switch (way) {
    case "from":
      return `from table ${of}`;
    case "met":
      return `found a partner in ${of}`;
    case "unmet":
      return `found no partner in ${of}`;
    case "several":
      return `made several by the join with ${of}`;
    case "unasked":
      return `of ${of}, which no row asked for`;
  }
  return "stand for other rows too";
}
