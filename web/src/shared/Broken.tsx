import { Box, HStack, Text } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { type ErrorComponentProps, Link, useRouter } from "@tanstack/react-router";
import { Press } from "./controls";
import { Title } from "./parts";
import { Trouble } from "./states";

/** What stands in the place of a view that could not be drawn; everything around it goes on. */
export function Broken({ error, reset }: ErrorComponentProps) {
  const client = useQueryClient();
  const router = useRouter();
  const again = async () => {
    await client.resetQueries();
    reset();
    await router.invalidate();
  };
  return (
    <Box py="2">
      <Title>This view could not be shown</Title>
      <Trouble error={error} />
      <Text fontSize="sm" color="quiet" mb="3">
        Nothing was changed by it. If it happens again, tell whoever runs the service the address of this page
        and what stands above.
      </Text>
      <HStack gap="4">
        <Press onClick={again}>Try again</Press>
        <Link to=".">This page from its beginning</Link>
        <Link to="/">To the desk</Link>
      </HStack>
    </Box>
  );
}
