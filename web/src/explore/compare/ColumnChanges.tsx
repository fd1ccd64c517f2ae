import { chakra, HStack, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../../client/client";
import { Field } from "../../shared/controls";
import { Grid, right, Td, Th } from "../../shared/grid";
import { SaveTable } from "../../shared/save";
import { count, glance, middle, percent, plural } from "../../shared/words";

type Change = Schemas["ColumnChange"];

/** How much a column changed, for the order in which columns are told: new and gone ones, then those with most to say. */
const weight = (c: Change) =>
  (c.turn === "new" || c.turn === "gone" ? 1000 : 0) +
  c.says.length * 100 +
  Math.abs((c.score.after ?? 0) - (c.score.before ?? 0)) +
  Math.abs(c.missing.after - c.missing.before);

const changed = (c: Change) => weight(c) > 0;

/** Every column then and now, those that changed first; a press shows how its values lie. */
export function ColumnChanges(props: {
  c: Schemas["ComparisonShown"];
  chosen?: string;
  choose: (name: string) => void;
}) {
  const { c, chosen } = props;
  const [sought, setSought] = useState("");
  const columns = c.columns
    .filter((x) => x.name.toLowerCase().includes(sought.toLowerCase()))
    .sort((x, y) => weight(y) - weight(x));
  return (
    <>
      <HStack justify="space-between" mb="1" flexWrap="wrap">
        <HStack gap="3">
          {c.columns.length > 12 && (
            <Field
              aria-label="Find a column"
              placeholder="find a column …"
              value={sought}
              onChange={(e) => setSought(e.target.value)}
              w="160px"
            />
          )}
          <Text fontSize="sm" color="quiet">
            {count(c.columns.filter(changed).length)} of {plural(c.columns.length, "column", "columns")}{" "}
            changed; they come first. Press one to see both.
          </Text>
        </HStack>
        <SaveTable
          name="comparison"
          rows={() => [
            [
              "column",
              "turn",
              "type before",
              "type",
              "score before",
              "score",
              "missing before",
              "missing",
              "distinct before",
              "distinct",
              "mean before",
              "mean",
              "what changed",
            ],
            ...columns.map((x) => [
              x.name,
              x.turn,
              x.type.before,
              x.type.after,
              x.score.before,
              x.score.after,
              x.missing.before,
              x.missing.after,
              x.distinct.before,
              x.distinct.after,
              x.mean.before,
              x.mean.after,
              x.says.join("; "),
            ]),
          ]}
        />
      </HStack>
      <Grid label="Columns, then and now" max="380px">
        <thead>
          <tr>
            <Th left="0" zIndex="2">
              column
            </Th>
            <Th>what changed</Th>
            <Th {...right}>score</Th>
            <Th {...right}>missing %</Th>
            <Th {...right}>distinct</Th>
            <Th {...right}>mean</Th>
          </tr>
        </thead>
        <tbody>
          {columns.map((x) => (
            <tr key={x.name} aria-selected={x.name === chosen}>
              <Td position="sticky" left="0" whiteSpace="nowrap" title={x.name}>
                <chakra.button
                  type="button"
                  color="accent"
                  textDecoration="underline"
                  fontWeight={x.name === chosen ? "700" : "400"}
                  minH="24px"
                  onClick={() => props.choose(x.name)}
                >
                  {middle(x.name, 28)}
                </chakra.button>
              </Td>
              <Td fontSize="sm">
                {x.turn === "new" ? "is new" : x.turn === "gone" ? "is gone" : x.says.join("; ")}
              </Td>
              <Then turn={x.turn} before={percent(x.score.before)} after={percent(x.score.after)} />
              <Then turn={x.turn} before={percent(x.missing.before)} after={percent(x.missing.after)} />
              <Then turn={x.turn} before={count(x.distinct.before)} after={count(x.distinct.after)} />
              <Then turn={x.turn} before={glance(x.mean.before)} after={glance(x.mean.after)} />
            </tr>
          ))}
        </tbody>
      </Grid>
    </>
  );
}

/** A figure then and now; one where nothing changed. */
function Then({ turn, before, after }: { turn: string; before: string; after: string }) {
  const text =
    turn === "new"
      ? after
      : turn === "gone"
        ? before
        : before === after
          ? after
          : `${before || "–"} → ${after || "–"}`;
  return (
    <Td
      {...right}
      whiteSpace="nowrap"
      fontWeight={turn !== "new" && turn !== "gone" && before !== after ? "600" : "400"}
    >
      {text}
    </Td>
  );
}
