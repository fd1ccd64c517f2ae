import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { type KeyboardEvent, type ReactNode, useState } from "react";
import type { Schemas } from "../client/client";
import { Choice } from "../shared/controls";
import { joined } from "../shared/lists";
import { Empty } from "../shared/states";
import { Value } from "../shared/Value";
import { plural } from "../shared/words";
import { type LedgerStep, stepName } from "./ledger";
import { StepForm } from "./StepForm";
import { StepOptions } from "./StepOptions";

type Outlined = Schemas["PlanOutlined"];
type Step = Outlined["outline"]["steps"][number];
type Change = Schemas["StepChange"];

/** The steps of a plan in their order: each is opened, moved, switched off or taken out, and others are added. */
export function StepList(props: {
  o: Outlined;
  problems: Schemas["Problem"][];
  /** What the last preview says of the steps; undefined where there is none of this text. */
  did?: LedgerStep[];
  chosen?: number;
  choose: (step: number | undefined) => void;
  change: (c: Change) => void;
  /** What stands beneath the fields of a step of some kind. */
  beneath: (step: number, kind: string) => ReactNode;
}) {
  const { o, choose, change } = props;
  const steps = o.outline.steps;
  const [dragged, setDragged] = useState<number>();
  const move = (from: number, to: number) => {
    if (to >= 1 && to <= steps.length && to !== from) {
      change({ step: from, move_to: to });
      choose(to);
    }
  };
  return (
    <Box>
      {steps.length === 0 && (
        <Empty>The plan has no steps yet. Add the first one below, or from where the trouble is seen.</Empty>
      )}
      <Box as="ol" aria-label="Steps of the plan" listStyleType="none" m="0" p="0">
        {steps.map((s, i) => {
          const n = i + 1;
          return (
            <Box
              as="li"
              key={n}
              borderBottomWidth="1px"
              borderColor="line"
              draggable
              opacity={dragged === n ? 0.5 : 1}
              onDragStart={() => setDragged(n)}
              onDragEnd={() => setDragged(undefined)}
              onDragOver={(e) => e.preventDefault()}
              onDrop={() => dragged && move(dragged, n)}
            >
              <StepLine
                n={n}
                last={steps.length}
                s={s}
                open={props.chosen === n}
                did={props.did?.find((d) => d.step === n)}
                wrong={mistakesOf(i, steps, props.problems).length > 0}
                choose={() => choose(props.chosen === n ? undefined : n)}
                move={(to) => move(n, to)}
                change={change}
              />
              {props.chosen === n && (
                <>
                  <StepForm
                    kind={o.kinds.find((k) => k.name === s.name)}
                    fields={s.fields}
                    columns={o.columns[i] ?? []}
                    problems={mistakesOf(i, steps, props.problems)}
                    set={(field) => change({ step: n, field })}
                  />
                  {props.beneath(n, s.name)}
                </>
              )}
            </Box>
          );
        })}
      </Box>
      <HStack mt="2">
        <Choice
          aria-label="Add a step"
          value=""
          onChange={(e) => {
            change({ step: 0, add: [{ name: "do", value: e.target.value }] });
            choose(steps.length + 1);
          }}
        >
          <option value="">add a step …</option>
          <StepOptions kinds={o.kinds.map((k) => k.name)} />
        </Choice>
      </HStack>
    </Box>
  );
}

/** The mistakes between the line of a step and that of the next one. */
function mistakesOf(i: number, steps: Step[], problems: Schemas["Problem"][]): string[] {
  const to = steps[i + 1]?.line ?? Number.POSITIVE_INFINITY;
  return problems.filter((p) => p.line >= steps[i].line && p.line < to).map((p) => p.message);
}

const quiet = { fontSize: "sm", color: "quiet" } as const;

function StepLine(props: {
  n: number;
  last: number;
  s: Step;
  open: boolean;
  did: LedgerStep | undefined;
  wrong: boolean;
  choose: () => void;
  move: (to: number) => void;
  change: (c: Change) => void;
}) {
  const { n, s, did } = props;
  const off = s.fields.some((f) => f.name === "off" && f.value === "true");
  const onKeyDown = (e: KeyboardEvent) => {
    if (e.altKey && (e.key === "ArrowUp" || e.key === "ArrowDown")) {
      e.preventDefault();
      props.move(e.key === "ArrowUp" ? n - 1 : n + 1);
    }
  };
  return (
    <HStack align="start" gap="1" py="1">
      <chakra.span aria-hidden cursor="grab" color="quiet" pt="0.5" title="Drag it to another place">
        ⠿
      </chakra.span>
      <chakra.button
        type="button"
        flex="1"
        minW="0"
        textAlign="left"
        aria-expanded={props.open}
        title="Alt and an arrow move it"
        onClick={props.choose}
        onKeyDown={onKeyDown}
      >
        <chakra.span fontWeight="650" textDecoration={off ? "line-through" : undefined}>
          {n} {stepName(s.name || "?")}
        </chakra.span>{" "}
        <chakra.span {...quiet}>{summary(s)}</chakra.span>
        {props.wrong && (
          <chakra.span color="validity" fontSize="sm">
            {" "}
            has a mistake
          </chakra.span>
        )}
        <Did did={off ? undefined : did} />
      </chakra.button>
      <Small label={`Move step ${n} up`} sign="↑" off={n === 1} press={() => props.move(n - 1)} />
      <Small label={`Move step ${n} down`} sign="↓" off={n === props.last} press={() => props.move(n + 1)} />
      <Small
        label={off ? `Switch step ${n} on` : `Switch step ${n} off`}
        sign={off ? "on" : "off"}
        press={() => props.change({ step: n, field: { name: "off", value: off ? "" : "true" } })}
      />
      <Small label={`Take step ${n} out`} sign="×" press={() => props.change({ step: n, remove: true })} />
    </HStack>
  );
}

/** What the preview says that the step does, in a line: how much, and the first of it. */
function Did({ did }: { did: LedgerStep | undefined }) {
  if (!did) {
    return null;
  }
  const first = did.examples?.[0];
  const amount = [
    did.rows_made != null && `${plural(did.rows_made, "row", "rows")} made of ${did.rows_before}`,
    did.rows > 0 && `${plural(did.rows, "row leaves", "rows leave")}`,
    did.cells > 0 && plural(did.cells, "cell", "cells"),
  ].filter(Boolean);
  return (
    <Box {...quiet}>
      {amount.join(", ") || (did.columns ? "columns" : "nothing to do")}
      {first && !first.gone && (
        <>
          {": "}
          <Value text={first.old} /> → <Value text={first.new} />
        </>
      )}
      {did.refused?.length ? (
        <Text as="span" color="validity">
          {" "}
          cannot be done so
        </Text>
      ) : null}
    </Box>
  );
}

function Small(props: { label: string; sign: string; off?: boolean; press: () => void }) {
  return (
    <chakra.button
      type="button"
      minW="24px"
      minH="24px"
      fontSize="sm"
      color={props.off ? "quiet" : "accent"}
      aria-label={props.label}
      title={props.label}
      aria-disabled={props.off}
      onClick={props.off ? undefined : props.press}
    >
      {props.sign}
    </chakra.button>
  );
}

/** The fields of a step that say most, in a few words. */
function summary(s: Step): string {
  const parts = s.fields
    .filter((f) => !["do", "reason", "off", "title"].includes(f.name))
    .map((f) =>
      f.pairs ? f.pairs.map((p) => `${p.name}: ${p.text}`).join(", ") : f.values ? joined(f.values) : f.value,
    )
    .filter(Boolean);
  const text = parts.join(" · ");
  return text.length > 70 ? `${text.slice(0, 69)}…` : text;
}
