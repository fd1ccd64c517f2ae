import { Box, HStack, Text } from "@chakra-ui/react";
import type { Schemas } from "../../client/client";
import { Section } from "../../shared/parts";
import { Empty } from "../../shared/states";
import { Value } from "../../shared/Value";
import { count, plural } from "../../shared/words";
import { Overlay } from "./Overlay";
import { sidesOf } from "./sides";

type Result = Schemas["Result"];

/** One column in both tables: their distributions over each other, and the values that are new and gone. */
export function OneColumn(props: {
  t: Schemas["Table"];
  before: Schemas["Table"];
  name: string;
  now: Result;
  then: Result;
}) {
  const { name, now, then } = props;
  const one = now.columns.find((c) => c.name === name);
  const other = then.columns.find((c) => c.name === name);
  if (!one || !other) {
    return (
      <Empty>
        {one || other ? `Only one of the two tables has ${name}.` : `Neither of the two tables has ${name}.`}
      </Empty>
    );
  }
  const sides = sidesOf(one, other);
  return (
    <Section title={`${name} in both`}>
      <HStack align="start" gap="6" flexWrap="wrap">
        {sides ? (
          <Overlay
            sides={sides}
            name={name}
            file={`${props.t.dataset}-${name}`}
            called={[
              `${props.t.file_name} (${props.t.id})`,
              `${props.before.file_name} (${props.before.id})`,
            ]}
          />
        ) : (
          <Empty>What {name} holds is of different kinds, so that it cannot be drawn over each other.</Empty>
        )}
        <Values one={one} other={other} />
      </HStack>
    </Section>
  );
}

const listed = (c: Schemas["Column"]) => (c.values?.length ? c.values : c.frequent);
const whole = (c: Schemas["Column"]) => c.distinct <= listed(c).length;

/** The values that only one of the two has, where both are known to the last. */
function Values({ one, other }: { one: Schemas["Column"]; other: Schemas["Column"] }) {
  if (one.numbers || one.dates) {
    return null;
  }
  if (!whole(one) || !whole(other)) {
    return (
      <Text fontSize="sm" color="quiet" maxW="300px">
        Of so many different values ({count(one.distinct)} and {count(other.distinct)}) not all are kept;
        which are new and gone is not known.
      </Text>
    );
  }
  const lacks = (a: Schemas["Column"], b: Schemas["Column"]) => {
    const known = new Set(listed(b).map((f) => f.text));
    return listed(a).filter((f) => !known.has(f.text));
  };
  return (
    <Box fontSize="sm" maxW="320px">
      <List title="new" of={lacks(one, other)} />
      <List title="gone" of={lacks(other, one)} />
    </Box>
  );
}

function List({ title, of }: { title: string; of: Schemas["Frequency"][] }) {
  return (
    <Box mb="2">
      <Text fontWeight="600">
        {of.length === 0
          ? `No value is ${title}.`
          : `${plural(of.length, "value is", "values are")} ${title}:`}
      </Text>
      {of.length > 0 && (
        <Box maxH="180px" overflow="auto" tabIndex={0} role="group" aria-label={`Values that are ${title}`}>
          {of.map((f) => (
            <HStack key={f.text} justify="space-between" gap="4">
              <Value text={f.text} />
              <span>{count(f.rows)}</span>
            </HStack>
          ))}
        </Box>
      )}
    </Box>
  );
}
