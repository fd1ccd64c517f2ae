import { chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { credentials } from "../client/queries";
import { Field, Press } from "../shared/controls";
import { Grid, Td, Th, Unseen } from "../shared/grid";
import { Section } from "../shared/parts";
import { Empty, Shown, Trouble } from "../shared/states";
import { said } from "../shared/toasts";

/** By what the service is let in at web addresses that ask who comes. */
export function CredentialsSection() {
  const all = useQuery(credentials);
  return (
    <Section title="Web addresses that ask who comes">
      <Text color="quiet" mb="2" maxW="760px">
        What a host is told lies with each node, as a secret of that name: in the folder secrets of its data,
        in a file of mode 0600, or in the environment as PROUDSIEVE_SECRET_ and the name. It is shown nowhere,
        and told to no other host.
      </Text>
      <Shown query={all}>
        {(found) =>
          found.length === 0 ? (
            <Empty>Every host is asked without a credential.</Empty>
          ) : (
            <CredentialGrid credentials={found} />
          )
        }
      </Shown>
      <AddCredential />
    </Section>
  );
}

function CredentialGrid({ credentials: all }: { credentials: Schemas["Credential"][] }) {
  const client = useQueryClient();
  const remove = useMutation({
    mutationFn: (host: string) => take(api.DELETE("/credentials/{host}", { params: { path: { host } } })),
    onSuccess: (_, host) => {
      said(`${host} is asked without a credential.`);
      return client.invalidateQueries({ queryKey: ["credentials"] });
    },
  });
  return (
    <>
      <Grid label="Credentials of hosts">
        <thead>
          <tr>
            <Th>host</Th>
            <Th>header</Th>
            <Th>which says the secret</Th>
            <Th>certificate</Th>
            <Th>authority of the host</Th>
            <Unseen>what can be done</Unseen>
          </tr>
        </thead>
        <tbody>
          {all.map((c) => (
            <tr key={c.id}>
              <Td fontWeight="600" overflowWrap="anywhere">
                {c.host}
              </Td>
              <Td overflowWrap="anywhere">{c.header || "none"}</Td>
              <Td overflowWrap="anywhere">{c.secret || "none"}</Td>
              <Td overflowWrap="anywhere">{c.certificate || "none"}</Td>
              <Td overflowWrap="anywhere">{c.authority || "those that the machine trusts"}</Td>
              <Td>
                <Press
                  plain
                  size="xs"
                  h="6"
                  aria-label={`Remove the credential of ${c.host}`}
                  onClick={() => remove.mutate(c.host)}
                >
                  Remove
                </Press>
              </Td>
            </tr>
          ))}
        </tbody>
      </Grid>
      <Trouble error={remove.error} />
    </>
  );
}

const nothing = { host: "", header: "", secret: "", certificate: "", authority: "" };

const fields: { name: keyof typeof nothing; label: string; hint: string }[] = [
  { name: "host", label: "Host", hint: "host, or host:port" },
  { name: "header", label: "Header that is sent", hint: "as Authorization" },
  { name: "secret", label: "Secret that it says", hint: "name of a secret" },
  { name: "certificate", label: "Certificate with its key", hint: "name of a secret" },
  { name: "authority", label: "Authority of the host", hint: "name of a secret" },
];

function AddCredential() {
  const client = useQueryClient();
  const [c, set] = useState(nothing);
  const add = useMutation({
    mutationFn: () =>
      take(
        api.POST("/credentials", {
          body: {
            host: c.host.trim(),
            header: c.header.trim() || undefined,
            secret: c.secret.trim() || undefined,
            certificate: c.certificate.trim() || undefined,
            authority: c.authority.trim() || undefined,
          },
        }),
      ),
    onSuccess: () => {
      set(nothing);
      return client.invalidateQueries({ queryKey: ["credentials"] });
    },
  });
  return (
    <chakra.form
      mt="2"
      onSubmit={(e: React.FormEvent) => {
        e.preventDefault();
        add.mutate();
      }}
    >
      <HStack gap="3" flexWrap="wrap" alignItems="end">
        {fields.map((f) => (
          <chakra.label key={f.name} htmlFor={`credential-${f.name}`} fontSize="sm" color="quiet">
            {f.label}
            <Field
              id={`credential-${f.name}`}
              display="block"
              color="ink"
              placeholder={f.hint}
              required={f.name === "host"}
              autoComplete="off"
              value={c[f.name]}
              onChange={(e) => set({ ...c, [f.name]: e.target.value })}
            />
          </chakra.label>
        ))}
        <Press type="submit" needs="administer" loading={add.isPending}>
          Let it in
        </Press>
      </HStack>
      <Trouble error={add.error} />
    </chakra.form>
  );
}
