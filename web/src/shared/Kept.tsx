import { HStack, Text } from "@chakra-ui/react";
import type { useDraft } from "../client/drafts";
import { Press } from "./controls";
import { when } from "./words";

/** What is to be known of a draft: that it was kept from before, and that another tab changes the text too. */
export function Kept({ draft }: { draft: ReturnType<typeof useDraft> }) {
  return (
    <>
      {draft.found !== undefined && (
        <HStack role="status" my="2" gap="3" fontSize="sm">
          <Text>
            Your draft of {when(new Date(draft.found).toISOString())} is shown
            {draft.from > 0 && `, made from version ${draft.from}`}; it is kept in this browser until it is
            saved.
          </Text>
          <Press plain size="xs" h="6" onClick={() => draft.change(undefined)}>
            Give it up
          </Press>
        </HStack>
      )}
      {draft.elsewhere && (
        <Text role="alert" my="2" fontSize="sm" fontWeight="600">
          Another tab changes this text too. Of both, the one that is changed last is kept; go on in one of
          them.
        </Text>
      )}
    </>
  );
}
