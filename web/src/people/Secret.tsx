import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useState } from "react";
import { Press } from "../shared/controls";

/** A token or another secret, which is shown this once. */
export function Secret({ what = "token", of, secret }: { what?: string; of: string; secret: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <Box role="status" borderLeftWidth="4px" borderColor="accent" bg="sheet" px="3" py="2" my="2">
      <Text>
        The {what} of {of}. It is shown this once, and kept nowhere: hand it over by a way that nobody else
        reads.
      </Text>
      <HStack gap="3" mt="1" flexWrap="wrap">
        <chakra.code fontFamily="mono" wordBreak="break-all">
          {secret}
        </chakra.code>
        <Press
          plain
          size="xs"
          h="6"
          onClick={() =>
            navigator.clipboard.writeText(secret).then(
              () => setCopied(true),
              () => undefined,
            )
          }
        >
          {copied ? "Copied" : "Copy"}
        </Press>
      </HStack>
    </Box>
  );
}
