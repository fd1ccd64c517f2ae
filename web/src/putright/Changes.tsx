import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useInfiniteQuery } from "@tanstack/react-query";
import { Fragment } from "react";
import type { Schemas } from "../client/client";
import { type ChangesOf, changes } from "../client/queries";
import { Choice } from "../shared/controls";
import { Grid, More, right, Td, Th } from "../shared/grid";
import { Empty, Shown } from "../shared/states";
import { Value } from "../shared/Value";
import { count } from "../shared/words";
import { type Ledger, stepName } from "./ledger";

export type Asked = { step?: number; column?: string; what?: "cells" | "rows" };

/** All that a plan changed, or would change: old beside new, and the rows that leave, whole. */
export function Changes({
  of,
  ledger,
  asked,
  ask,
}: {
  of: ChangesOf;
  ledger: Ledger;
  asked: Asked;
  ask: (asked: Asked) => void;
}) {
  const found = useInfiniteQuery(changes(of, asked));
  const columns = [...new Set(ledger.steps.flatMap((s) => (s.columns ?? []).map((c) => c.name)))];
  const named = [...new Set([...(ledger.columns ?? []), ...columns])];
  return (
    <>
      <HStack gap="3" mb="2" flexWrap="wrap">
        <Choice
          aria-label="Step"
          value={asked.step ?? ""}
          onChange={(e) => ask({ ...asked, step: Number(e.target.value) || undefined })}
        >
          <option value="">every step</option>
          {ledger.steps.map((s) => (
            <option key={s.step} value={s.step}>
              {s.step} {stepName(s.kind)}
            </option>
          ))}
        </Choice>
        <Choice
          aria-label="What was changed"
          value={asked.what ?? ""}
          onChange={(e) => ask({ ...asked, what: (e.target.value || undefined) as Asked["what"] })}
        >
          <option value="">cells and rows</option>
          <option value="cells">cells</option>
          <option value="rows">rows that leave</option>
        </Choice>
        {asked.what !== "rows" && (
          <Choice
            aria-label="Column"
            value={asked.column ?? ""}
            onChange={(e) => ask({ ...asked, column: e.target.value || undefined })}
          >
            <option value="">every column</option>
            {named.map((c) => (
              <option key={c}>{c}</option>
            ))}
          </Choice>
        )}
      </HStack>
      <Shown query={found}>
        {({ items, columns }) =>
          items.length === 0 ? (
            <Empty>Nothing is changed by what was asked for.</Empty>
          ) : (
            <>
              {asked.what === "rows" ? <RowsGone items={items} columns={columns} /> : <Cells items={items} />}
              <More query={found} shown={items.length} />
            </>
          )
        }
      </Shown>
    </>
  );
}

type Entry = Schemas["LogEntry"];

const one = {
  maxW: "280px",
  overflow: "hidden",
  textOverflow: "ellipsis",
  whiteSpace: "nowrap",
} as const;

/** Changes in a line each. */
export function Cells({ items, max = "420px" }: { items: Entry[]; max?: string }) {
  return (
    <Grid label="Changes, old and new" max={max}>
      <thead>
        <tr>
          <Th {...right}>row</Th>
          <Th {...right}>step</Th>
          <Th>column</Th>
          <Th>old</Th>
          <Th>new</Th>
        </tr>
      </thead>
      <tbody>
        {items.map((c) => (
          <tr key={`${c.step} ${c.row} ${c.column}`}>
            <Td {...right}>{count(c.row)}</Td>
            <Td {...right}>{c.step}</Td>
            <Td>{c.column ?? "whole row"}</Td>
            <Td {...one}>
              <Value text={c.gone ? Object.values(c.gone).filter(Boolean).join(" | ") : c.old} />
            </Td>
            <Td {...one}>
              {!c.gone ? (
                <Value text={c.new} />
              ) : c.kept_by ? (
                `leaves; row ${count(c.kept_by)} stays`
              ) : (
                "leaves"
              )}
            </Td>
          </tr>
        ))}
      </tbody>
    </Grid>
  );
}

/** Rows that leave, under their headings, with the row that stays in their place. */
function RowsGone({ items, columns }: { items: Entry[]; columns: string[] }) {
  const named = columns.filter((c) => items.some((i) => i.gone && c in i.gone));
  const shown = named.length > 0 ? named : Object.keys(items[0]?.gone ?? {});
  return (
    <Grid label="Rows that leave" max="420px">
      <thead>
        <tr>
          <Th {...right}>row</Th>
          <Th {...right}>step</Th>
          {shown.map((c) => (
            <Th key={c}>{c}</Th>
          ))}
        </tr>
      </thead>
      <tbody>
        {items.map((i) => (
          <Fragment key={`${i.step} ${i.row}`}>
            <tr>
              <Td {...right}>{count(i.row)}</Td>
              <Td {...right}>{i.step}</Td>
              {shown.map((c) => (
                <Td key={c} {...one}>
                  <Value text={i.gone?.[c] ?? ""} />
                </Td>
              ))}
            </tr>
            {i.kept_by ? (
              <tr>
                <Td {...right} color="quiet">
                  {count(i.kept_by)}
                </Td>
                <Td color="quiet">stays</Td>
                {shown.map((c) => (
                  <Td key={c} {...one} color="quiet">
                    <Kept text={i.stays?.[c] ?? i.gone?.[c] ?? ""} was={i.gone?.[c] ?? ""} />
                  </Td>
                ))}
              </tr>
            ) : null}
          </Fragment>
        ))}
      </tbody>
    </Grid>
  );
}

/** A cell of the row that stays; what differs from the one that leaves stands out. */
function Kept({ text, was }: { text: string; was: string }) {
  return text === was ? (
    <Value text={text} />
  ) : (
    <chakra.span fontWeight="650" color="ink">
      <Value text={text} />
    </chakra.span>
  );
}

/** Why steps must not be done as they are declared, and what has to be decided. */
export function Refused({ ledger }: { ledger: Ledger }) {
  const steps = ledger.steps.filter((s) => s.refused?.length);
  if (steps.length === 0) {
    return null;
  }
  return (
    <Box role="alert" borderLeftWidth="4px" borderColor="validity" bg="sheet" px="3" py="2" my="2">
      <Text fontWeight="600">The plan cannot be applied as it stands.</Text>
      {steps.flatMap((s) =>
        (s.refused ?? []).map((r) => (
          <Box key={`${s.step} ${r.why}`} mt="1">
            <Text>
              Step {s.step}, {stepName(s.kind)}, {count(r.rows)} {r.rows === 1 ? "row" : "rows"}: {r.why}.
            </Text>
            {r.places.length > 0 && (
              <Text fontSize="sm" color="quiet">
                {r.places.map((p, i) => (
                  <Fragment key={`${p.row} ${p.column}`}>
                    {i > 0 && ", "}row {count(p.row)}
                    {p.column && `, ${p.column}`}: <Value text={p.text} />
                  </Fragment>
                ))}
                {r.rows > r.places.length && ` and ${count(r.rows - r.places.length)} more`}
              </Text>
            )}
          </Box>
        )),
      )}
    </Box>
  );
}
