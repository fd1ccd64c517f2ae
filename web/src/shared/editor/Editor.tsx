import { Box, chakra, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useRef } from "react";
import { Refusal } from "../../client/client";
import { checkedText, type DeclarationKind } from "../../client/queries";
import { useSettled } from "../settled";
import { Trouble, Waiting } from "../states";
import { plural } from "../words";
import { declarationOffers } from "./offers";
import type { Hand, Problem } from "./places";

const CodeArea = lazy(() => import("./CodeArea"));

/** A declaration as text: its mistakes at their places while it is written, and what can come next. */
export function Editor(props: {
  label: string;
  kind: DeclarationKind;
  height: string;
  value: string;
  onChange: (text: string) => void;
  /** Why it was not saved. */
  error: unknown;
}) {
  const { kind, error } = props;
  const checked = useQuery(checkedText(kind, useSettled(props.value))).data;
  const hand = useRef<Hand>(null);
  // A text that is no YAML for the moment has no columns; those of a moment ago are still meant.
  const known = useRef(checked);
  if (checked && (checked.columns.length > 0 || !known.current)) {
    known.current = checked;
  }
  const problems = checked?.problems ?? none;
  return (
    <>
      <Suspense fallback={<Waiting />}>
        <CodeArea
          hand={hand}
          label={props.label}
          value={props.value}
          onChange={props.onChange}
          height={props.height}
          problems={problems}
          offers={(text, at) => declarationOffers(text, at, known.current)}
        />
      </Suspense>
      <Box aria-live="polite" minH="22px" maxH="120px" overflow="auto" mt="1" fontSize="sm">
        {problems.length === 0 ? (
          <Text color="quiet">
            {checked?.good && `It is a good ${one[kind]}. `}Ctrl and space show what can come next.
          </Text>
        ) : (
          <Mistakes problems={problems} goTo={(line, column) => hand.current?.goTo(line, column)} />
        )}
      </Box>
      {(problems.length === 0 || !(error instanceof Refusal) || error.status !== 422) && (
        <Trouble error={error} />
      )}
    </>
  );
}

const none: Problem[] = [];

const one = { rulebooks: "rulebook", "fix-plans": "fix plan", merges: "merge" };

function Mistakes({ problems, goTo }: { problems: Problem[]; goTo: Hand["goTo"] }) {
  return (
    <>
      <Text fontWeight="600">{plural(problems.length, "mistake", "mistakes")}</Text>
      {problems.map((p) => (
        <Text key={`${p.line}.${p.column}.${p.message}`}>
          <chakra.button
            type="button"
            color="accent"
            textDecoration="underline"
            onClick={() => goTo(p.line, p.column)}
          >
            line {p.line}, column {p.column}
          </chakra.button>
          : {p.message}
        </Text>
      ))}
    </>
  );
}
