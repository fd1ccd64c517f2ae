import { Box, chakra, Dialog, HStack, Text } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, Refusal, sessionEnded, take } from "../client/client";
import { Field, Press } from "../shared/controls";
import { Trouble } from "../shared/states";

/** Signing in with a token; the session is a cookie that no script can read. */
function TokenForm({ done }: { done: () => Promise<unknown> }) {
  const [token, setToken] = useState("");
  const [error, setError] = useState<unknown>();
  const submit = async (e: FormEvent) => {
    e.preventDefault();
    try {
      await take(api.POST("/session", { body: { token: token.trim() } }));
      sessionEnded.set(false);
      await done();
    } catch (refusal) {
      setError(refusal instanceof Refusal ? new Error(refusal.message) : refusal);
    }
  };
  return (
    <form onSubmit={submit}>
      <label htmlFor="token">Your token</label>
      <Field
        id="token"
        type="password"
        autoComplete="current-password"
        w="full"
        my="2"
        autoFocus
        value={token}
        onChange={(e) => setToken(e.target.value)}
      />
      <Trouble error={error} />
      <Press type="submit" disabled={token.trim() === ""}>
        Sign in
      </Press>
    </form>
  );
}

/** Where a session has ended while somebody was at work: the page stays as it is behind. */
export function SignInAgain({ name }: { name: string }) {
  const client = useQueryClient();
  return (
    <Dialog.Root open closeOnEscape={false} closeOnInteractOutside={false} motionPreset="none">
      <Dialog.Backdrop />
      <Dialog.Positioner>
        <Dialog.Content bg="sheet" color="ink" borderRadius="2px" p="5">
          <Dialog.Title fontSize="lg" fontWeight="650">
            Sign in again
          </Dialog.Title>
          <Dialog.Description mb="3">
            The session of {name} has ended. What you were at stays as it is behind this.
          </Dialog.Description>
          <TokenForm done={() => client.invalidateQueries()} />
        </Dialog.Content>
      </Dialog.Positioner>
    </Dialog.Root>
  );
}

/** Lets somebody in. */
export function SignIn() {
  const client = useQueryClient();
  return (
    <Box as="main" maxW="460px" mx="auto" mt="24" p="6" bg="sheet" borderWidth="1px" borderColor="line">
      <HStack gap="3" mb="1">
        <img src="/mesh.svg" width={26} height={26} alt="" />
        <chakra.h1 fontSize="xl" fontWeight="700">
          Proud Sieve
        </chakra.h1>
      </HStack>
      <Text color="quiet" mb="4">
        Audits of incoming tables, from arrival to certificate.
      </Text>
      <TokenForm done={() => client.resetQueries()} />
      <Text fontSize="sm" color="quiet" mt="4">
        An administrator makes tokens with <chakra.code fontFamily="mono">proudsieve token add</chakra.code>.
        The service writes the first one into the file administrator-token of its data directory.
      </Text>
    </Box>
  );
}
