import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { datasets, rightsOf } from "../client/queries";
import { Choice, Press } from "../shared/controls";
import { Grid, Td, Th, Unseen } from "../shared/grid";
import { Shown, Trouble } from "../shared/states";
import { said } from "../shared/toasts";

type Right = Schemas["DatasetRight"];

const mayWord: Record<Right["may"], string> = {
  read: "read",
  work: "read, discuss and work",
  certify: "read, discuss and certify",
};
const levels = Object.keys(mayWord) as Right["may"][];

/** With which datasets somebody may do what. */
export function RightsForm({ name, close }: { name: string; close: () => void }) {
  const now = useQuery(rightsOf(name));
  return (
    <Box borderLeftWidth="4px" borderColor="accent" bg="sheet" px="3" py="2" my="2" maxW="800px">
      <Shown query={now}>
        {(rights) => <Form key={JSON.stringify(rights)} name={name} now={rights} close={close} />}
      </Shown>
    </Box>
  );
}

function Form({ name, now, close }: { name: string; now: Schemas["Confinement"]; close: () => void }) {
  const client = useQueryClient();
  const [confined, setConfined] = useState(now.confined);
  const [rights, setRights] = useState<Right[]>(now.rights);
  const all = useQuery(datasets).data?.items ?? [];
  const keep = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/people/{name}/rights", {
          params: { path: { name } },
          body: { confined, rights: confined ? rights : [] },
        }),
      ),
    onSuccess: async () => {
      said(`What ${name} may see is as you said.`);
      await client.invalidateQueries();
      close();
    },
  });
  const set = (dataset: string, change: Partial<Right>) =>
    setRights(rights.map((r) => (r.dataset === dataset ? { ...r, ...change } : r)));
  return (
    <chakra.form
      onSubmit={(e: React.FormEvent) => {
        e.preventDefault();
        keep.mutate();
      }}
    >
      <HStack gap="2" flexWrap="wrap">
        <Text fontWeight="650">{name} sees</Text>
        <Choice
          aria-label={`What ${name} sees`}
          value={confined ? "some" : "all"}
          onChange={(e) => setConfined(e.target.value === "some")}
        >
          <option value="all">all datasets, and may do what the role allows</option>
          <option value="some">these datasets alone</option>
        </Choice>
      </HStack>
      {confined && (
        <>
          {rights.length > 0 && (
            <Grid label={`Datasets of ${name}`}>
              <thead>
                <tr>
                  <Th>dataset</Th>
                  <Th>may, as far as the role allows</Th>
                  <Th>sees personal data as they are</Th>
                  <Unseen>without</Unseen>
                </tr>
              </thead>
              <tbody>
                {rights.map((r) => (
                  <tr key={r.dataset}>
                    <Td>{r.dataset}</Td>
                    <Td>
                      <Choice
                        aria-label={`What ${name} may do with ${r.dataset}`}
                        value={r.may}
                        onChange={(e) => set(r.dataset, { may: e.target.value as Right["may"] })}
                      >
                        {levels.map((level) => (
                          <option key={level} value={level}>
                            {mayWord[level]}
                          </option>
                        ))}
                      </Choice>
                    </Td>
                    <Td>
                      <input
                        type="checkbox"
                        aria-label={`${name} sees personal data of ${r.dataset}`}
                        checked={r.may === "work" || (r.personal ?? false)}
                        disabled={r.may === "work"}
                        onChange={(e) => set(r.dataset, { personal: e.target.checked })}
                      />
                    </Td>
                    <Td>
                      <Press
                        plain
                        size="xs"
                        h="6"
                        aria-label={`Without ${r.dataset}`}
                        onClick={() => setRights(rights.filter((o) => o.dataset !== r.dataset))}
                      >
                        ×
                      </Press>
                    </Td>
                  </tr>
                ))}
              </tbody>
            </Grid>
          )}
          <Choice
            aria-label="One dataset more"
            value=""
            onChange={(e) =>
              e.target.value &&
              setRights(
                [...rights, { dataset: e.target.value, may: "read" as const }].sort((a, b) =>
                  a.dataset.localeCompare(b.dataset),
                ),
              )
            }
          >
            <option value="">one dataset more …</option>
            {all
              .filter((d) => !rights.some((r) => r.dataset === d.name))
              .map((d) => (
                <option key={d.name}>{d.name}</option>
              ))}
          </Choice>
          {rights.length === 0 && <Text color="quiet">Without any, {name} sees no dataset at all.</Text>}
        </>
      )}
      <HStack gap="2" mt="2">
        <Press type="submit" loading={keep.isPending}>
          Keep it so
        </Press>
        <Press plain onClick={close}>
          Leave it
        </Press>
      </HStack>
      <Trouble error={keep.error} />
    </chakra.form>
  );
}
