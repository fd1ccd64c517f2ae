import { Link } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { Grid, right, Td, Th } from "../shared/grid";
import { Severity } from "../shared/parts";
import { Empty } from "../shared/states";
import { count, when } from "../shared/words";

export function IssueGrid({ issues, empty }: { issues: Schemas["Issue"][]; empty: string }) {
  if (issues.length === 0) {
    return <Empty>{empty}</Empty>;
  }
  return (
    <Grid label="Issues">
      <thead>
        <tr>
          <Th {...right}>issue</Th>
          <Th>what was found</Th>
          <Th>severity</Th>
          <Th>state</Th>
          <Th>dataset</Th>
          <Th>rule</Th>
          <Th {...right}>rows</Th>
          <Th>assigned to</Th>
          <Th>changed</Th>
        </tr>
      </thead>
      <tbody>
        {issues.map((i) => (
          <tr key={i.id}>
            <Td {...right}>{i.id}</Td>
            <Td>
              <Link to="/issues/$id" params={{ id: String(i.id) }}>
                {i.title}
              </Link>
            </Td>
            <Td>
              <Severity of={i.severity} />
            </Td>
            <Td>{i.state}</Td>
            <Td>{i.dataset}</Td>
            <Td fontFamily="mono" fontSize="sm">
              {i.rule}
            </Td>
            <Td {...right}>{count(i.rows)}</Td>
            <Td>{i.assignee ?? "nobody"}</Td>
            <Td whiteSpace="nowrap">{when(i.changed_at)}</Td>
          </tr>
        ))}
      </tbody>
    </Grid>
  );
}
