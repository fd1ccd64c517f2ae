import { Box, HStack, Text } from "@chakra-ui/react";
import type { Schemas } from "../client/client";
import { right } from "../shared/grid";
import { Value } from "../shared/Value";
import { count } from "../shared/words";

/** Bars of how often texts occur; the scale is the share of the whole. */
export function Frequencies({ of, total }: { of: Schemas["Frequency"][]; total: number }) {
  return (
    <Box>
      {of.map((f) => (
        <HStack key={f.text} fontSize="sm" gap="2">
          <Box w="150px" overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap" title={f.text}>
            <Value text={f.text} />
          </Box>
          <Box flex="1" aria-hidden="true">
            <Box h="2.5" bg="quiet" w={`${(100 * f.rows) / Math.max(total, 1)}%`} minW="1px" />
          </Box>
          <Text w="60px" {...right}>
            {count(f.rows)}
          </Text>
        </HStack>
      ))}
    </Box>
  );
}
