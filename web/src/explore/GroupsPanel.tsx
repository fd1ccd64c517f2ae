import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { type GroupKind, groups } from "../client/queries";
import { PutStep } from "../putright/PutRight";
import { Choice, Press } from "../shared/controls";
import { Grid, right, Td, Th } from "../shared/grid";
import { Empty, Shown } from "../shared/states";
import { Value } from "../shared/Value";
import { count, decimal, plural } from "../shared/words";

const kinds: { kind: GroupKind; title: string; says: string; empty: string }[] = [
  {
    kind: "conflicting",
    title: "one key, different cells",
    says: "The rows share their key and contradict one another elsewhere.",
    empty: "No two rows share their key and differ elsewhere.",
  },
  {
    kind: "equal",
    title: "equal in every cell",
    says: "The rows are the same, cell by cell.",
    empty: "No two rows are equal in every cell.",
  },
  {
    kind: "near",
    title: "one key once spellings are levelled",
    says: "The keys become one once spaces, case, accents and code spellings are levelled.",
    empty: "Levelling spaces, case, accents and code spellings would make no two keys one.",
  },
];

/** Rows that share a key, side by side: what differs is shown, what agrees stays quiet. */
export function GroupsPanel({ t, a }: { t: Schemas["Table"]; a: Schemas["AuditShown"] }) {
  const search = useSearch({ from: "/tables/$id" });
  const navigate = useNavigate();
  const names = a.result.columns.map((c) => c.name);
  const declared = a.result.findings.find((f) => f.kind === "key")?.columns;
  const identifier = a.result.columns.find((c) => c.role === "identifier")?.name;
  const by = search.by ?? declared ?? (identifier ? [identifier] : names.slice(0, 1));
  const kind = kinds.find((k) => k.kind === search.kind)?.kind ?? "conflicting";
  const offset = search.offset ?? 0;
  const change = (what: { by?: string[]; kind?: GroupKind; offset?: number }) =>
    navigate({
      to: "/tables/$id",
      params: { id: String(t.id) },
      search: { view: "groups", by, kind, ...what },
    });
  const found = useQuery(groups(t.id, by, kind, offset));
  return (
    <>
      <HStack gap="2" mb="2" flexWrap="wrap">
        <Text>Rows that share</Text>
        {by.map((name) => (
          <Press
            key={name}
            plain
            size="xs"
            h="7"
            aria-label={`Take ${name} out of the key`}
            disabled={by.length === 1}
            onClick={() => change({ by: by.filter((n) => n !== name) })}
          >
            {name} ×
          </Press>
        ))}
        <Choice
          aria-label="Another column of the key"
          value=""
          onChange={(e) => e.target.value && change({ by: [...by, e.target.value] })}
          maxW="180px"
        >
          <option value="">and another column …</option>
          {names
            .filter((n) => !by.includes(n))
            .map((n) => (
              <option key={n}>{n}</option>
            ))}
        </Choice>
      </HStack>
      <Shown query={found} waiting="Looking through all rows …">
        {(g) => (
          <>
            <Kinds g={g} kind={kind} choose={(k) => change({ kind: k })} />
            <Text fontSize="sm" color="quiet" mb="1">
              {kinds.find((k) => k.kind === kind)?.says} Once spellings are made consistent,{" "}
              {count(g.surplus_levelled)} of {count(g.rows)} rows are surplus.{" "}
              {t.origin === "delivery" && g.listed > 0 && <OneOfEach t={t} by={by} kind={kind} />}
            </Text>
            {g.page.length === 0 ? (
              <Empty>{kinds.find((k) => k.kind === kind)?.empty}</Empty>
            ) : (
              <Page g={g} by={by} />
            )}
            {g.listed > 20 && (
              <HStack gap="3" mt="2">
                <Press
                  plain
                  disabled={offset === 0}
                  onClick={() => change({ offset: Math.max(offset - 20, 0) })}
                >
                  Earlier groups
                </Press>
                <Text fontSize="sm">
                  groups {count(offset + 1)} to {count(offset + g.page.length)} of {count(g.listed)}
                </Text>
                <Press
                  plain
                  disabled={offset + 20 >= g.listed}
                  onClick={() => change({ offset: offset + 20 })}
                >
                  Later groups
                </Press>
              </HStack>
            )}
          </>
        )}
      </Shown>
    </>
  );
}

/** The way to the step that would keep one row of each group. */
function OneOfEach(props: { t: Schemas["Table"]; by: string[]; kind: GroupKind }) {
  const fields: Schemas["Field"][] =
    props.kind === "equal"
      ? [{ name: "do", value: "remove_equal_rows" }]
      : [
          { name: "do", value: "keep_one" },
          { name: "columns", values: props.by },
          { name: "survivor", value: "fullest_row" },
        ];
  return (
    <PutStep table={props.t.id} fields={fields}>
      {props.kind === "equal" ? "Put right: remove equal rows" : "Put right: keep one of each"}
    </PutStep>
  );
}

function Kinds({
  g,
  kind,
  choose,
}: {
  g: Schemas["GroupsPage"];
  kind: GroupKind;
  choose: (k: GroupKind) => void;
}) {
  const measures = Object.keys(g.of.conflicting?.impact ?? {});
  return (
    <Grid label="Kinds of groups">
      <thead>
        <tr>
          <Th>groups that are</Th>
          <Th {...right}>groups</Th>
          <Th {...right}>rows</Th>
          <Th {...right}>surplus rows</Th>
          {measures.map((m) => (
            <Th key={m} {...right}>
              sum of {m} over the surplus
            </Th>
          ))}
        </tr>
      </thead>
      <tbody>
        {kinds.map((k) => {
          const n = g.of[k.kind];
          return (
            <tr key={k.kind}>
              <Td fontWeight={k.kind === kind ? "700" : "400"}>
                <chakra.button
                  type="button"
                  color="accent"
                  textDecoration="underline"
                  aria-pressed={k.kind === kind}
                  onClick={() => choose(k.kind)}
                >
                  {k.title}
                </chakra.button>
              </Td>
              <Td {...right}>{count(n?.groups ?? 0)}</Td>
              <Td {...right}>{count(n?.rows ?? 0)}</Td>
              <Td {...right}>{count(n?.surplus ?? 0)}</Td>
              {measures.map((m) => (
                <Td key={m} {...right}>
                  {decimal(n?.impact[m])}
                </Td>
              ))}
            </tr>
          );
        })}
      </tbody>
    </Grid>
  );
}

/** The groups one beneath the other; a line divides them. */
function Page({ g, by }: { g: Schemas["GroupsPage"]; by: string[] }) {
  const order = [
    ...by,
    ...g.names.filter((n) => !by.includes(n) && g.page.some((x) => x.differs.includes(n))),
    ...g.names.filter((n) => !by.includes(n) && !g.page.some((x) => x.differs.includes(n))),
  ];
  return (
    <Box mt="2">
      <Grid label="Groups side by side" max="calc(100vh - 400px)">
        <thead>
          <tr>
            <Th {...right}>row</Th>
            {order.map((n) => (
              <Th key={n}>{n}</Th>
            ))}
          </tr>
        </thead>
        {g.page.map((group) => (
          <tbody key={group.rows[0].row}>
            {group.rows.map((row, i) => (
              <tr key={row.row}>
                <Td {...right} borderTopWidth={i === 0 ? "2px" : "0"} borderTopColor="quiet">
                  {count(row.row)}
                </Td>
                {order.map((n) => {
                  const differs = group.differs.includes(n);
                  return (
                    <Td
                      key={n}
                      borderTopWidth={i === 0 ? "2px" : "0"}
                      borderTopColor="quiet"
                      whiteSpace="nowrap"
                      maxW="220px"
                      overflow="hidden"
                      textOverflow="ellipsis"
                      color={differs || by.includes(n) ? "ink" : "quiet"}
                      fontWeight={differs ? "700" : "400"}
                      textDecoration={differs ? "underline" : undefined}
                      textDecorationColor="uniqueness"
                      title={differs ? `${n} differs within the group` : undefined}
                    >
                      <Value text={row.cells[g.names.indexOf(n)] ?? ""} />
                    </Td>
                  );
                })}
              </tr>
            ))}
            {group.count > group.rows.length && (
              <tr>
                <Td colSpan={order.length + 1} color="quiet">
                  and {plural(group.count - group.rows.length, "row", "rows")} more
                </Td>
              </tr>
            )}
          </tbody>
        ))}
      </Grid>
    </Box>
  );
}
