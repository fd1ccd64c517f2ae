import { Text } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { Grid, right, Td, Th } from "../shared/grid";
import { count, percent, when } from "../shared/words";

export function DatasetGrid({ datasets }: { datasets: Schemas["Dataset"][] }) {
  return (
    <Grid label="Datasets">
      <thead>
        <tr>
          <Th>dataset</Th>
          <Th>title</Th>
          <Th {...right}>score</Th>
          <Th>verdict</Th>
          <Th {...right}>issues open</Th>
          <Th {...right}>of them major</Th>
          <Th {...right}>deliveries</Th>
          <Th {...right}>rulebook</Th>
          <Th>newest table</Th>
        </tr>
      </thead>
      <tbody>
        {datasets.map((d) => (
          <tr key={d.id}>
            <Td>
              <Link to="/datasets/$name" params={{ name: d.name }}>
                {d.name}
              </Link>
            </Td>
            <Td>{d.title}</Td>
            <Td {...right}>{percent(d.score)}</Td>
            <Td>
              {d.passed == null ? <Text color="quiet">no verdict</Text> : d.passed ? "passed" : "fell short"}
            </Td>
            <Td {...right}>
              {d.open_issues > 0 ? (
                <Link to="/issues" search={{ dataset: d.name }}>
                  {count(d.open_issues)}
                </Link>
              ) : (
                "0"
              )}
            </Td>
            <Td {...right}>{count(d.stops)}</Td>
            <Td {...right}>{count(d.deliveries)}</Td>
            <Td {...right}>{d.rulebook > 0 ? `version ${d.rulebook}` : "none"}</Td>
            <Td>
              {d.last_table ? (
                <Link to="/tables/$id" params={{ id: String(d.last_table) }}>
                  {when(d.last_at)}
                </Link>
              ) : (
                "none yet"
              )}
            </Td>
          </tr>
        ))}
      </tbody>
    </Grid>
  );
}
