import { chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { datasets, toldOf } from "../client/queries";
import { Choice, Field, Press } from "../shared/controls";
import { Grid, Td, Th } from "../shared/grid";
import { Section } from "../shared/parts";
import { Shown, Trouble } from "../shared/states";
import { said } from "../shared/toasts";
import { kindWord } from "./noticeWords";

/** How somebody is told of what. */
export function ChoicesSection() {
  const told = useQuery(toldOf);
  return (
    <Section title="How you are told">
      <Shown query={told}>{(t) => <Choices key={JSON.stringify(t)} told={t} />}</Shown>
    </Section>
  );
}

function Choices({ told }: { told: Schemas["ToldShown"] }) {
  const client = useQueryClient();
  const [choices, setChoices] = useState(told.choices);
  const [address, setAddress] = useState(told.address);
  const [chosen, setChosen] = useState(told.datasets);
  const all = useQuery(datasets).data?.items ?? [];
  const keep = useMutation({
    mutationFn: () =>
      take(api.PUT("/notices/choices", { body: { address: address.trim(), choices, datasets: chosen } })),
    onSuccess: async () => {
      said("What you are told of is as you chose.");
      await client.invalidateQueries({
        predicate: (q) => ["notices", "unseen", "told"].includes(String(q.queryKey[0])),
      });
    },
  });
  const set = (kind: string, how: Partial<Schemas["NoticeChoice"]>) =>
    setChoices(choices.map((c) => (c.kind === kind ? { ...c, ...how } : c)));
  const changed =
    address !== told.address ||
    JSON.stringify(choices) !== JSON.stringify(told.choices) ||
    JSON.stringify(chosen) !== JSON.stringify(told.datasets);
  return (
    <chakra.form
      maxW="900px"
      onSubmit={(e: React.FormEvent) => {
        e.preventDefault();
        keep.mutate();
      }}
    >
      <Grid label="How you are told of what">
        <thead>
          <tr>
            <Th>when</Th>
            <Th>in this list</Th>
            <Th>by mail, unless it was your own deed</Th>
          </tr>
        </thead>
        <tbody>
          {choices.map((c) => (
            <tr key={c.kind}>
              <Td>{kindWord[c.kind]}</Td>
              <Td>
                <input
                  type="checkbox"
                  aria-label={`In this list: ${kindWord[c.kind]}`}
                  checked={c.listed}
                  onChange={(e) => set(c.kind, { listed: e.target.checked })}
                />
              </Td>
              <Td>
                <input
                  type="checkbox"
                  aria-label={`By mail: ${kindWord[c.kind]}`}
                  checked={c.mailed}
                  disabled={!told.mails && !c.mailed}
                  onChange={(e) => set(c.kind, { mailed: e.target.checked })}
                />
              </Td>
            </tr>
          ))}
        </tbody>
      </Grid>
      <HStack gap="3" flexWrap="wrap" my="2">
        <Text as="span">
          Letters go to{" "}
          <Field
            type="email"
            aria-label="Your e-mail address"
            placeholder="you@host"
            value={address}
            onChange={(e) => setAddress(e.target.value)}
          />
        </Text>
        {!told.mails && (
          <Text color="quiet">
            No mail server is set up, so that no letters are sent; whoever runs the service can start it with
            --mail-server.
          </Text>
        )}
      </HStack>
      <HStack gap="3" flexWrap="wrap" my="2">
        <Text>{chosen.length === 0 ? "Of all datasets." : "Of these datasets alone:"}</Text>
        {chosen.map((name) => (
          <Press
            plain
            key={name}
            aria-label={`Be told no more of ${name}`}
            onClick={() => setChosen(chosen.filter((n) => n !== name))}
          >
            {name} ×
          </Press>
        ))}
        <Choice
          aria-label="Be told of one dataset more"
          value=""
          onChange={(e) => e.target.value && setChosen([...chosen, e.target.value].sort())}
        >
          <option value="">{chosen.length === 0 ? "only of …" : "and of …"}</option>
          {all
            .filter((d) => !chosen.includes(d.name))
            .map((d) => (
              <option key={d.name}>{d.name}</option>
            ))}
        </Choice>
      </HStack>
      <Press type="submit" loading={keep.isPending} disabled={!changed}>
        Keep these choices
      </Press>
      <Trouble error={keep.error} />
    </chakra.form>
  );
}
