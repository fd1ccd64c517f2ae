import { Text } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { Section } from "../shared/parts";
import { plural } from "../shared/words";

/** What was expected and has not come. */
export function DeskLate({ late }: { late: Schemas["LateDelivery"][] }) {
  if (late.length === 0) {
    return null;
  }
  return (
    <Section title="Expected, and not there">
      {late.map((d) => (
        <Text key={d.dataset} borderLeftWidth="4px" borderColor="accent" pl="2" my="1">
          <Link to="/datasets/$name" params={{ name: d.dataset }}>
            {d.dataset}
          </Link>{" "}
          was expected by {d.day} and is {plural(d.days, "day", "days")} late
          {d.missed > 1 &&
            `; ${plural(d.missed - 1, "later delivery is", "later deliveries are")} missing too`}
          .
        </Text>
      ))}
    </Section>
  );
}
