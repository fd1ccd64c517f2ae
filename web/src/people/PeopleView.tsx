import { chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { me, people } from "../client/queries";
import { Choice, Field, Press } from "../shared/controls";
import { Grid, Td, Th, Unseen } from "../shared/grid";
import { Section, Title } from "../shared/parts";
import { Shown, Trouble } from "../shared/states";
import { when } from "../shared/words";
import { RightsForm } from "./RightsForm";
import { Secret } from "./Secret";
import { TokensSection } from "./TokensSection";

const roles = ["reader", "steward", "certifier", "administrator"] as const;
type Role = (typeof roles)[number];

/** What each role may do, in a sentence. */
const mayDo: Record<Role, string> = {
  reader: "sees everything, and changes nothing",
  steward: "takes in deliveries, declares, audits, puts right and joins",
  certifier: "signs certificates, and discusses issues",
  administrator: "does all of that, and lets people in",
};

/** Everybody who works with the service, and the tokens by which they come in. */
export function PeopleView() {
  const all = useQuery(people);
  const who = useQuery(me);
  const administers = who.data?.rights.includes("administer") ?? false;
  return (
    <>
      <Title>People</Title>
      <Shown query={all}>{(everybody) => <Everybody people={everybody} administers={administers} />}</Shown>
      {administers && <AddPerson />}
      {administers && (
        <Section title="Where deliveries come from">
          <Link to="/databases">Databases from which deliveries are taken, and what hosts are told</Link>
        </Section>
      )}
      <TokensSection everybodys={administers} />
    </>
  );
}

function Everybody({ people: all, administers }: { people: Schemas["Person"][]; administers: boolean }) {
  const client = useQueryClient();
  const done = () => client.invalidateQueries();
  const [rights, setRights] = useState<string>();
  const keepOut = useMutation({
    mutationFn: (p: Schemas["Person"]) =>
      take(
        api.PATCH("/people/{name}", {
          params: { path: { name: p.name } },
          body: { disabled: !p.disabled_at },
        }),
      ),
    onSuccess: done,
  });
  const reset = useMutation({
    mutationFn: (name: string) => take(api.POST("/people/{name}/reset", { params: { path: { name } } })),
    onSuccess: done,
  });
  return (
    <>
      <Grid label="People">
        <thead>
          <tr>
            <Th>name</Th>
            <Th>role</Th>
            <Th>may do</Th>
            <Th>sees</Th>
            <Th>let in</Th>
            {administers && <Unseen>what an administrator can do</Unseen>}
          </tr>
        </thead>
        <tbody>
          {all.map((p) => (
            <tr key={p.id}>
              <Td fontWeight="600">{p.name}</Td>
              <Td>{p.role}</Td>
              <Td color="quiet">{mayDo[p.role as Role]}</Td>
              <Td>{p.confined ? "some datasets" : "all datasets"}</Td>
              <Td>{p.disabled_at ? `kept out since ${when(p.disabled_at)}` : "yes"}</Td>
              {administers && (
                <Td>
                  <HStack gap="2">
                    <Press
                      plain
                      size="xs"
                      h="6"
                      aria-label={`${p.disabled_at ? "Let in again" : "Keep out"}: ${p.name}`}
                      onClick={() => keepOut.mutate(p)}
                    >
                      {p.disabled_at ? "Let in again" : "Keep out"}
                    </Press>
                    <Press
                      plain
                      size="xs"
                      h="6"
                      aria-label={`End all tokens and make a new one: ${p.name}`}
                      onClick={() => reset.mutate(p.name)}
                    >
                      End all tokens, make a new one
                    </Press>
                    {p.role !== "administrator" && (
                      <Press
                        plain
                        size="xs"
                        h="6"
                        aria-label={`Datasets: ${p.name}`}
                        onClick={() => setRights(p.name)}
                      >
                        Datasets
                      </Press>
                    )}
                  </HStack>
                </Td>
              )}
            </tr>
          ))}
        </tbody>
      </Grid>
      {rights && <RightsForm key={rights} name={rights} close={() => setRights(undefined)} />}
      <Trouble error={keepOut.error ?? reset.error} />
      {reset.data && <Secret of={reset.data.name} secret={reset.data.secret} />}
    </>
  );
}

function AddPerson() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("steward");
  const add = useMutation({
    mutationFn: () => take(api.POST("/people", { body: { name: name.trim(), role } })),
    onSuccess: () => {
      setName("");
      return client.invalidateQueries();
    },
  });
  return (
    <Section title="Let somebody in">
      <chakra.form
        onSubmit={(e: React.FormEvent) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <HStack gap="3" flexWrap="wrap">
          <Field
            aria-label="Name"
            placeholder="name"
            required
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <Choice aria-label="Role" value={role} onChange={(e) => setRole(e.target.value as Role)}>
            {roles.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </Choice>
          <Press type="submit" loading={add.isPending} disabled={name.trim() === ""}>
            Add
          </Press>
          <Text color="quiet">{mayDo[role]}</Text>
        </HStack>
      </chakra.form>
      <Trouble error={add.error} />
      {add.data && <Secret of={add.data.name} secret={add.data.secret} />}
    </Section>
  );
}
