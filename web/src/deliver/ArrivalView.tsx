import { Box, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useEffect, useId, useState } from "react";
import { arrive } from "../client/client";
import { lookedAt, type ReadingWish } from "../client/queries";
import { Press, useMay } from "../shared/controls";
import { Section, Title } from "../shared/parts";
import { Shown, Trouble } from "../shared/states";
import { bytes } from "../shared/words";
import { takeDropped } from "./arriving";
import { BecomeDelivery } from "./BecomeDelivery";
import { FirstRows } from "./FirstRows";
import { ReadingForm } from "./ReadingForm";

/** A file on its way in: how it is read, its first rows, and what it is. */
export function ArrivalView() {
  const { arrival } = useSearch({ from: "/new" });
  return (
    <>
      <Title>Take in a file</Title>
      {arrival === undefined ? <ChooseFile /> : <Look id={arrival} />}
    </>
  );
}

function ChooseFile() {
  const navigate = useNavigate();
  const { dataset } = useSearch({ from: "/new" });
  const { may, why } = useMay("work");
  const [share, setShare] = useState(0);
  const input = useId();
  const send = useMutation({
    mutationFn: (file: File) => arrive(file, setShare),
    onSuccess: (a) => navigate({ to: "/new", search: { arrival: a.id, dataset } }),
  });
  const { mutate } = send;
  useEffect(() => {
    const look = () => {
      const file = takeDropped();
      if (file) {
        mutate(file);
      }
    };
    look();
    addEventListener("file-dropped", look);
    return () => removeEventListener("file-dropped", look);
  }, [mutate]);
  if (!may) {
    return <Text>{why}</Text>;
  }
  return (
    <>
      <Text maxW="720px" mb="3">
        The file is kept as it is, and read: you see how, and why, before it becomes a delivery. CSV and other
        delimited text, workbooks, JSON and Parquet are read, packed or not.
      </Text>
      <Box
        borderWidth="2px"
        borderStyle="dashed"
        borderColor="quiet"
        bg="sheet"
        px="5"
        py="8"
        maxW="720px"
        textAlign="center"
      >
        <Text mb="3">Drop a file anywhere on the page, or</Text>
        <HStack justify="center">
          <label htmlFor={input}>Choose a file:</label>
          <input
            id={input}
            type="file"
            onChange={(e) => {
              const file = e.target.files?.[0];
              if (file) {
                mutate(file);
              }
              e.target.value = ""; // the same file can be chosen again once it was mended
            }}
          />
        </HStack>
        {send.isPending && (
          <Text role="status" mt="3">
            {Math.round(share * 100)}% of {bytes(send.variables.size)} sent
          </Text>
        )}
      </Box>
      <Trouble error={send.error} />
    </>
  );
}

function Look({ id }: { id: number }) {
  const navigate = useNavigate();
  const { reading = {}, dataset, fresh } = useSearch({ from: "/new" });
  const seen = useQuery(lookedAt(id, reading, dataset));
  const change = (wish: ReadingWish) =>
    navigate({ to: "/new", search: { arrival: id, dataset, fresh, reading: wish }, replace: true });
  return (
    <>
      <Shown query={seen} waiting="The file is being read …">
        {(look) => (
          <>
            <Text>
              <strong>{look.arrival.file_name}</strong>, {bytes(look.arrival.bytes)}. It is kept as it is for
              a day, and becomes a delivery when you take it in below.
            </Text>
            <Box
              display="grid"
              gridTemplateColumns={{ base: "minmax(0, 1fr)", lg: "430px minmax(0, 1fr)" }}
              gap="6"
            >
              <Section title="How it is read">
                {look.rulebook ? (
                  <Text>
                    As version {look.rulebook} of the rulebook of {dataset} says. Change the reading there
                    where the rows are wrong.
                  </Text>
                ) : (
                  <ReadingForm look={look} wish={reading} change={change} />
                )}
                {/* where the last change cannot be read, what is shown is the reading before it */}
                <Trouble error={seen.error} />
              </Section>
              <Section title="The first rows, as they are read">
                <FirstRows look={look} />
              </Section>
            </Box>
            <Section title="What it is">
              <BecomeDelivery look={look} wish={reading} />
            </Section>
          </>
        )}
      </Shown>
      {!seen.data && seen.error && (
        <HStack gap="3">
          {Object.keys(reading).length > 0 && (
            <Press plain onClick={() => change({})}>
              Read it as it was found
            </Press>
          )}
          <Press plain onClick={() => navigate({ to: "/new", search: {} })}>
            Choose another file
          </Press>
        </HStack>
      )}
    </>
  );
}
