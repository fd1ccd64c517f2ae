import { Text } from "@chakra-ui/react";
import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import type { ReactNode } from "react";
import type { Schemas } from "../client/client";
import { datasetDecided } from "../client/queries";
import { Grid, More, Td, Th } from "../shared/grid";
import { TableLink, Title } from "../shared/parts";
import { Empty, Shown } from "../shared/states";
import { when } from "../shared/words";

/** Everything that was decided of a dataset, with its reasons: for whoever takes it over. */
export function DecidedView() {
  const { name } = useParams({ from: "/datasets/$name/decided" });
  const all = useInfiniteQuery(datasetDecided(name));
  return (
    <>
      <Title>What was decided of {name}</Title>
      <Text color="quiet" mb="2">
        Rulebooks and plans, what was accepted and for how long, answers that were taken up, tables that were
        withdrawn and certified; the newest first.{" "}
        <Link to="/datasets/$name" params={{ name }}>
          To the dataset
        </Link>
      </Text>
      <Shown query={all}>
        {(page) =>
          page.items.length === 0 ? (
            <Empty>Nothing has been decided yet.</Empty>
          ) : (
            <Grid label="What was decided">
              <thead>
                <tr>
                  <Th>when</Th>
                  <Th>who</Th>
                  <Th>what</Th>
                  <Th>about</Th>
                  <Th>why</Th>
                </tr>
              </thead>
              <tbody>
                {page.items.map((d) => (
                  <tr key={d.number}>
                    <Td whiteSpace="nowrap">{when(d.at)}</Td>
                    <Td whiteSpace="nowrap">{d.person ?? "the service"}</Td>
                    <Td whiteSpace="nowrap">{d.kind}</Td>
                    <Td>
                      <About d={d} name={name} />
                    </Td>
                    <Td>{d.why}</Td>
                  </tr>
                ))}
              </tbody>
            </Grid>
          )
        }
      </Shown>
      <More query={all} shown={all.data?.items.length ?? 0} />
    </>
  );
}

/** What a decision is about, with the way to it. */
function About({ d, name }: { d: Schemas["Decided"]; name: string }): ReactNode {
  const id = String(d.about);
  switch (d.kind) {
    case "waived":
    case "waiver ended":
    case "issue closed":
    case "issue reopened":
    case "issue asked":
      return (
        <Link to="/issues/$id" params={{ id }}>
          {d.says}
        </Link>
      );
    case "answer taken up":
    case "answer left":
      return (
        <Link to="/questions/$id" params={{ id }}>
          {d.says}
        </Link>
      );
    case "withdrawn":
      return <TableLink id={d.about}>{d.says}</TableLink>;
    case "certified":
    case "revoked":
      return (
        <Link to="/certificates/$id" params={{ id }}>
          {d.says}
        </Link>
      );
    case "less asked":
    case "agreed":
    case "refused":
      return (
        <Link to="/decisions" search={{ dataset: name }}>
          {d.says}
        </Link>
      );
    case "rulebook":
      return (
        <Link to="/datasets/$name/rulebook" params={{ name }} search={{}}>
          {d.says}
        </Link>
      );
    default:
      return d.says;
  }
}
