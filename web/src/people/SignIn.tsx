import { Box, chakra, Dialog, HStack, Text } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, Refusal, sessionEnded, take } from "../client/client";
import { waysIn } from "../client/queries";
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

/** Why somebody did not come in by the provider, by the word that the service says. */
const refusals: Record<string, string> = {
  denied: "You were not let in there.",
  groups: "None of your groups has a role here. Ask an administrator which group you should be in.",
  stale: "It was begun too long ago, or in another browser. Begin again.",
  "kept-out": "You are kept out. Ask an administrator.",
  taken:
    "Somebody here has your name and comes in by tokens. If that is you, ask an administrator to link the two: proudsieve person link.",
  confined: "You are confined to datasets here, and your groups make you an administrator. Ask one.",
  failed:
    "The provider could not be reached, or its answer does not hold. Try again, or ask an administrator, whose log says more.",
};

/** Signing in by a provider of identities, where there is one. */
function ByProvider() {
  const ways = useQuery(waysIn);
  const provider = ways.data?.provider;
  if (!provider) {
    return null;
  }
  const refused = new URLSearchParams(location.search).get("refused");
  const to = refused ? "/" : location.pathname + location.search;
  return (
    <Box mb="5">
      {refused && (
        <Text role="alert" color="validity" mb="2">
          {refusals[refused] ?? refusals.failed}
        </Text>
      )}
      <chakra.a
        href={`/api/v1/sign-in?to=${encodeURIComponent(to)}`}
        display="inline-block"
        px="3"
        py="1.5"
        bg="accent"
        color="accentInk"
        fontWeight="600"
        textDecoration="none"
        borderRadius="2px"
      >
        Sign in by {provider}
      </chakra.a>
      <Text fontSize="sm" color="quiet" mt="4">
        or by a token:
      </Text>
    </Box>
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
          <ByProvider />
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
      <ByProvider />
      <TokenForm done={() => client.resetQueries()} />
      <Text fontSize="sm" color="quiet" mt="4">
        An administrator makes tokens with <chakra.code fontFamily="mono">proudsieve token add</chakra.code>.
        The service writes the first one into the file administrator-token of its data directory.
      </Text>
    </Box>
  );
}
