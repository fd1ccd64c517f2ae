import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import type { ReactNode } from "react";
import { Press } from "./controls";
import { count } from "./words";

export const Th = chakra("th", {
  base: {
    textAlign: "left",
    fontWeight: "600",
    fontSize: "sm",
    color: "quiet",
    px: "2",
    py: "1.5",
    borderBottomWidth: "1px",
    borderColor: "line",
    whiteSpace: "nowrap",
    bg: "paper",
    position: "sticky",
    top: "0",
    zIndex: "1",
  },
});

/** The heading of a column whose cells need none to look at, for those who listen. */
export function Unseen({ children }: { children: string }) {
  return (
    <Th>
      <chakra.span srOnly>{children}</chakra.span>
    </Th>
  );
}

export const Td = chakra("td", {
  base: {
    px: "2",
    py: "1.5",
    borderBottomWidth: "1px",
    borderColor: "line",
    verticalAlign: "top",
    bg: "paper",
  },
});

export const right = { textAlign: "right" } as const;

/** A table in its own scrolling frame: sticky header, dense rows. */
export function Grid({ label, max, children }: { label: string; max?: string; children: ReactNode }) {
  return (
    <Box
      overflow="auto"
      maxH={max}
      tabIndex={0}
      role="group"
      aria-label={label}
      borderTopWidth="1px"
      borderColor="line"
    >
      <chakra.table w="full">{children}</chakra.table>
    </Box>
  );
}

/** Under a list of which there is more: how many are shown, and the next ones. */
export function More({
  query,
  shown,
}: {
  query: { hasNextPage: boolean; fetchNextPage: () => unknown; isFetchingNextPage: boolean };
  shown: number;
}) {
  return query.hasNextPage ? (
    <HStack my="2" gap="3">
      <Text fontSize="sm" color="quiet">
        The first {count(shown)} are shown.
      </Text>
      <Press plain onClick={() => query.fetchNextPage()} loading={query.isFetchingNextPage}>
        Show more
      </Press>
    </HStack>
  ) : null;
}
