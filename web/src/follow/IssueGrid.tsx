import { chakra } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../client/client";
import { Grid, right, Td, Th, Unseen } from "../shared/grid";
import { Severity } from "../shared/parts";
import { Empty } from "../shared/states";
import { count, when } from "../shared/words";
import { standing } from "./issueWords";

/** Issues, a line each; where they can be chosen, with a box before each. */
export function IssueGrid(props: {
  issues: Schemas["Issue"][];
  empty: string;
  chosen?: Set<number>;
  choose?: (id: number, on: boolean) => void;
}) {
  const { issues, chosen, choose } = props;
  if (issues.length === 0) {
    return <Empty>{props.empty}</Empty>;
  }
  return (
    <Grid label="Issues">
      <thead>
        <tr>
          {choose && <Unseen>chosen</Unseen>}
          <Th {...right}>issue</Th>
          <Th>what was found</Th>
          <Th>severity</Th>
          <Th>state</Th>
          <Th>dataset</Th>
          <Th>rule</Th>
          <Th {...right}>rows</Th>
          <Th>assigned to</Th>
          <Th>owner</Th>
          <Th>due</Th>
          <Th>changed</Th>
        </tr>
      </thead>
      <tbody>
        {issues.map((i) => (
          <tr key={i.id}>
            {choose && (
              <Td>
                <chakra.input
                  type="checkbox"
                  w="16px"
                  h="16px"
                  aria-label={`Choose issue ${i.id}`}
                  checked={chosen?.has(i.id) ?? false}
                  onChange={(e) => choose(i.id, e.target.checked)}
                />
              </Td>
            )}
            <Td {...right}>{i.id}</Td>
            <Td>
              <Link to="/issues/$id" params={{ id: String(i.id) }}>
                {i.title}
              </Link>
            </Td>
            <Td>
              <Severity of={i.severity} />
            </Td>
            <Td>{standing(i)}</Td>
            <Td>{i.dataset}</Td>
            <Td fontFamily="mono" fontSize="sm">
              {i.rule}
            </Td>
            <Td {...right}>{count(i.rows)}</Td>
            <Td>{i.assignee ?? "nobody"}</Td>
            <Td>{i.owner}</Td>
            <Td whiteSpace="nowrap" fontWeight={i.overdue ? "700" : undefined}>
              {i.due}
              {i.overdue && " overdue"}
            </Td>
            <Td whiteSpace="nowrap">{when(i.changed_at)}</Td>
          </tr>
        ))}
      </tbody>
    </Grid>
  );
}
