import { chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { api, take } from "../client/client";
import { refresh } from "../client/queries";
import { Field, Press } from "../shared/controls";
import { Section } from "../shared/parts";
import { Trouble } from "../shared/states";
import { nameShape, wrongName } from "./names";

/** Adds a dataset before anything of it has arrived, to declare first what must hold. */
export function AddDataset() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [title, setTitle] = useState("");
  const wrong = name === "" || nameShape.test(name) ? undefined : wrongName;
  const add = useMutation({
    mutationFn: () => take(api.POST("/datasets", { body: { name, title: title || undefined } })),
    onSuccess: async (made) => {
      await refresh(client, "delivery");
      navigate({ to: "/datasets/$name/rulebook", params: { name: made.name }, search: { view: "forms" } });
    },
  });
  return (
    <Section title="Declare a dataset before its first file">
      <chakra.form
        onSubmit={(e: React.FormEvent) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <HStack gap="3" flexWrap="wrap">
          <Field
            aria-label="Name of the dataset"
            placeholder="name, as gauge_readings"
            required
            aria-invalid={wrong !== undefined}
            w="220px"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <Field
            aria-label="What it is"
            placeholder="what it is, in a few words"
            w="300px"
            value={title}
            onChange={(e) => setTitle(e.target.value)}
          />
          <Press needs="work" plain type="submit" loading={add.isPending} disabled={!nameShape.test(name)}>
            Add it, and declare what must hold
          </Press>
        </HStack>
        {wrong && (
          <Text role="alert" fontSize="sm" color="validity">
            {wrong}
          </Text>
        )}
        <Trouble error={add.error} />
      </chakra.form>
    </Section>
  );
}
