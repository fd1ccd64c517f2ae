import { Text } from "@chakra-ui/react";
import type { Schemas } from "../client/client";
import { Section } from "../shared/parts";
import { count, plural } from "../shared/words";

/** Which columns miss together. */
export function MissingTogether({ r }: { r: Schemas["Result"] }) {
  const complete = r.missing_together.find((p) => p.missing.length === 0)?.rows ?? 0;
  const lacking = r.missing_together.filter((p) => p.missing.length > 0);
  if (lacking.length === 0) {
    return null;
  }
  return (
    <Section title="What misses together">
      <Text fontSize="sm">
        {count(complete)} of {plural(r.rows, "row", "rows")} are complete.
      </Text>
      {lacking.slice(0, 12).map((p) => (
        <Text key={p.missing.join()} fontSize="sm">
          {plural(p.rows, "row lacks", "rows lack")} {p.missing.join(", ")}.
        </Text>
      ))}
      {(lacking.length > 12 || r.more_together) && <Text fontSize="sm">There are more combinations.</Text>}
    </Section>
  );
}
