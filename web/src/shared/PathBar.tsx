import { Box, chakra, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { tablePath } from "../client/queries";

const mark: Record<string, string> = { done: "●", here: "◐", held: "▮", ahead: "○" };
const stateWord: Record<string, string> = { done: "done", here: "here", held: "held up", ahead: "ahead" };

/** The path of the work: where a delivery is, what holds it up, and the way to each station. */
export function PathBar({ id, dataset }: { id: number; dataset: string }) {
  const path = useQuery(tablePath(id));
  if (!path.data) {
    return <Box h="14" />;
  }
  return (
    <chakra.ol
      aria-label="The path of the work"
      display="grid"
      gridTemplateColumns={{
        base: "repeat(auto-fill, minmax(140px, 1fr))",
        lg: `repeat(${path.data.stages.length}, 1fr)`,
      }}
      listStyleType="none"
      borderTopWidth="2px"
      borderColor="calm"
      mb="3"
    >
      {path.data.stages.map((stage) => {
        const view = { received: "source", read: "columns", judged: "findings" }[stage.name as string];
        const name = (
          <>
            <chakra.span aria-hidden="true" color={stage.state === "held" ? "validity" : undefined}>
              {mark[stage.state]}
            </chakra.span>{" "}
            {stage.name}
          </>
        );
        const bold = stage.state === "here" || stage.state === "held" ? "650" : "400";
        return (
          <chakra.li
            key={stage.name}
            pt="1"
            pr="3"
            mt="-2px"
            borderTopWidth="2px"
            borderColor={stage.state === "ahead" ? "calm" : "accent"}
          >
            <Box fontWeight={bold} fontSize="sm" color={stage.state === "ahead" ? "quiet" : undefined}>
              {stage.name === "asked" ? (
                <Link to="/issues" search={{ dataset }}>
                  {name}
                </Link>
              ) : stage.name === "put right" && stage.state === "here" ? (
                <Link to="/tables/$id/fix" params={{ id: String(id) }} search={{}}>
                  {name}
                </Link>
              ) : stage.table ? (
                <Link
                  to="/tables/$id"
                  params={{ id: String(stage.table) }}
                  search={{ view: view ?? (stage.name === "certified" ? "certificate" : "accounting") }}
                >
                  {name}
                </Link>
              ) : (
                name
              )}
              <chakra.span srOnly>, {stateWord[stage.state]}</chakra.span>
            </Box>
            <Text fontSize="xs" color="quiet" lineHeight="1.25">
              {stage.says}
            </Text>
          </chakra.li>
        );
      })}
    </chakra.ol>
  );
}
