import { Box, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState } from "react";
import { checkedCondition } from "../../client/queries";
import { Press } from "../controls";
import { useSettled } from "../settled";
import { conditionOffers } from "./offers";

const CodeArea = lazy(() => import("./CodeArea"));

/** A condition on the rows of a table, which counts once Enter is pressed: what can come next, and what is wrong. */
export function ConditionField(props: {
  table: number;
  label: string;
  empty: string;
  value: string | undefined;
  onAsk: (condition: string | undefined) => void;
  width: string;
}) {
  const [text, setText] = useState(props.value ?? "");
  useEffect(() => setText(props.value ?? ""), [props.value]);
  const checked = useQuery(checkedCondition(props.table, useSettled(text))).data;
  const problems = checked?.problems ?? [];
  const ask = () => props.onAsk(text.trim() || undefined);
  return (
    <Box w={props.width} maxW="100%">
      <HStack gap="1" align="start">
        <Box flex="1" minW="0">
          <Suspense fallback={<Box h="8" />}>
            <CodeArea
              label={props.label}
              empty={props.empty}
              value={text}
              onChange={setText}
              problems={problems}
              offers={() => conditionOffers(checked)}
              oneLine
              onEnter={ask}
            />
          </Suspense>
        </Box>
        {text.trim() !== (props.value ?? "") && (
          <Press plain size="xs" h="7" onClick={ask} title={`${props.label}; Enter does it too`}>
            Show
          </Press>
        )}
      </HStack>
      {problems.length > 0 && (
        <Text fontSize="sm" role="status">
          character {problems[0].column}: {problems[0].message}
        </Text>
      )}
    </Box>
  );
}
