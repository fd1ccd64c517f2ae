import { Box, HStack, Popover, Portal, Text } from "@chakra-ui/react";
import type { ReactNode } from "react";
import { OnPress } from "./OnPress";
import { type Explained, terms } from "./terms";

/** A word of the trade with what it means one press away, in a sentence, and an example out of one's own data. */
export function Term(props: {
  of: Explained;
  example?: string;
  /** What it is called here, where that is not the word itself. */
  children?: ReactNode;
  /** The word stands beside it already. */
  bare?: boolean;
}) {
  const { of, example } = props;
  return (
    <HStack as="span" display="inline-flex" gap="1">
      {!props.bare && (props.children ?? of)}
      <OnPress label={`What is meant by ${of}`} sign="?" placement="bottom">
        <Portal>
          <Popover.Positioner>
            <Popover.Content
              bg="sheet"
              color="ink"
              borderWidth="1px"
              borderColor="quiet"
              borderRadius="2px"
              w="300px"
              aria-label={`What is meant by ${of}`}
            >
              <Box p="3" fontSize="sm" fontWeight="400" whiteSpace="normal" textAlign="left" tabIndex={0}>
                <Text>{terms[of]}</Text>
                {example && <Text mt="2">Here: {example}</Text>}
              </Box>
            </Popover.Content>
          </Popover.Positioner>
        </Portal>
      </OnPress>
    </HStack>
  );
}
