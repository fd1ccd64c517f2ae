import { HStack, Text } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../client/client";
import { Field, Press } from "../shared/controls";
import { Title } from "../shared/parts";
import { Trouble } from "../shared/states";
import { when } from "../shared/words";

/** Where somebody types the code that a command line shows, and lets it in as themselves. */
export function LetInView() {
  const [code, setCode] = useState("");
  const look = useMutation({
    mutationFn: () => take(api.GET("/sign-in-requests/{code}", { params: { path: { code } } })),
  });
  const reply = useMutation({
    mutationFn: (let_in: boolean) =>
      take(
        api.POST("/sign-in-requests/{code}/answer", { params: { path: { code } }, body: { let_in } }),
      ).then((request) => ({ request, let_in })),
  });
  const asks = look.data;
  if (reply.data) {
    const { request, let_in } = reply.data;
    return (
      <>
        <Title>Let a command line in</Title>
        <Text role="status">
          {let_in
            ? `The command line on ${request.machine} is let in as you, for twelve hours. You can close this page.`
            : `The command line on ${request.machine} was refused.`}
        </Text>
      </>
    );
  }
  return (
    <>
      <Title>Let a command line in</Title>
      <Text mb="3">
        <code>proudsieve sign-in</code> shows a code. Type it here, if it was you who began it: whoever has
        that command line then works as you. A code that somebody sent you is not yours.
      </Text>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          look.mutate();
        }}
      >
        <HStack gap="3">
          <Field
            aria-label="Code"
            placeholder="XXXX-XXXX"
            required
            autoFocus
            autoComplete="off"
            spellCheck={false}
            fontFamily="mono"
            w="180px"
            value={code}
            onChange={(e) => {
              setCode(e.target.value);
              look.reset();
              reply.reset();
            }}
          />
          {!asks && (
            <Press type="submit" loading={look.isPending}>
              Look who asks
            </Press>
          )}
        </HStack>
      </form>
      <Trouble error={look.error ?? reply.error} />
      {asks && (
        <>
          <Text mt="3">
            The command line on <strong>{asks.machine}</strong> asks to come in as you, from the address{" "}
            {asks.from}, until {when(asks.until)}.
          </Text>
          <HStack gap="3" mt="3">
            <Press loading={reply.isPending} onClick={() => reply.mutate(true)}>
              Let it in as me
            </Press>
            <Press plain onClick={() => reply.mutate(false)}>
              Refuse it
            </Press>
          </HStack>
        </>
      )}
    </>
  );
}
