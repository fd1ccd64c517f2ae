import { Box, chakra } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import type { Schemas } from "../../client/client";
import { tally } from "../../client/queries";
import { Choice } from "../../shared/controls";
import { Grid, right, Td, Th, Unseen } from "../../shared/grid";
import { Section } from "../../shared/parts";
import { Shown } from "../../shared/states";
import { Value } from "../../shared/Value";
import { count, decimal, glance, plural, quoted } from "../../shared/words";

type Column = Schemas["Column"];
type Table = Schemas["Table"];

/** The column by the values of another one. */
export function Grouped({ t, columns, c }: { t: Table; columns: Column[]; c: Column }) {
  const search = useSearch({ from: "/tables/$id" });
  const navigate = useNavigate();
  const others = columns.filter((o) => o.name !== c.name && (o.role === "category" || o.distinct <= 200));
  const by = others.some((o) => o.name === search.across) ? search.across : undefined;
  const measure = c.numbers ? c.name : undefined;
  const asked = (of: string) => ["rows", `filled ${of}`, `sum ${of}`, `mean ${of}`, `median ${of}`];
  const found = useQuery({
    ...tally(t.id, { by: [quoted(by ?? "")], measure: asked(quoted(c.name)) }),
    enabled: by !== undefined && measure !== undefined,
  });
  if (!measure || others.length === 0) {
    return null;
  }
  return (
    <Section
      title="By group"
      aside={
        <Choice
          aria-label="The column that groups"
          value={by ?? ""}
          onChange={(e) =>
            navigate({
              to: "/tables/$id",
              params: { id: String(t.id) },
              search: { view: "column", column: c.name, across: e.target.value || undefined },
            })
          }
        >
          <option value="">choose a column that groups</option>
          {others.map((o) => (
            <option key={o.name}>{o.name}</option>
          ))}
        </Choice>
      }
    >
      {by && (
        <Shown query={found} waiting="Looking through all rows …">
          {(x) => {
            const means = x.downs.map((d) => Number(d.values[3] || 0));
            const most = Math.max(...means.map(Math.abs), 1e-300);
            const called = (i: number) => x.by[0].groups[i];
            return (
              <>
                <Grid label={`${c.name} by ${by}`} max="300px">
                  <thead>
                    <tr>
                      <Th>{by}</Th>
                      <Th {...right}>rows</Th>
                      <Th {...right}>numbers</Th>
                      <Th {...right}>sum</Th>
                      <Th {...right}>mean</Th>
                      <Unseen>as a bar</Unseen>
                      <Th {...right}>median</Th>
                    </tr>
                  </thead>
                  <tbody>
                    {x.downs.map((d, i) => (
                      <tr key={called(i)?.text ?? "rest"}>
                        <Td>
                          {!called(i) ? (
                            <chakra.span color="quiet">{plural(x.by[0].rest, "other", "others")}</chakra.span>
                          ) : called(i).missing ? (
                            <chakra.span color="quiet">missing</chakra.span>
                          ) : (
                            <Value text={called(i).text} />
                          )}
                        </Td>
                        <Td {...right}>{count(d.rows)}</Td>
                        <Td {...right}>{count(Number(d.values[1]))}</Td>
                        <Td {...right}>{decimal(d.values[2])}</Td>
                        <Td {...right}>{glance(d.values[3])}</Td>
                        <Td w="160px" aria-hidden="true">
                          <Box h="2.5" mt="1" bg="quiet" w={`${(100 * Math.abs(means[i])) / most}%`} />
                        </Td>
                        <Td {...right}>{glance(d.values[4])}</Td>
                      </tr>
                    ))}
                  </tbody>
                </Grid>
                <Link
                  to="/tables/$id"
                  params={{ id: String(t.id) }}
                  search={{ view: "tally", down: quoted(by), measures: asked(quoted(c.name)) }}
                >
                  More of it in the tally
                </Link>
              </>
            );
          }}
        </Shown>
      )}
    </Section>
  );
}
