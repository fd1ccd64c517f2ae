import { chakra, HStack } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../client/client";
import { fetches, refresh } from "../client/queries";
import { Field, Press } from "../shared/controls";
import { Section, TableLink } from "../shared/parts";
import { Trouble } from "../shared/states";
import { plural, when } from "../shared/words";

/** The web addresses from which deliveries are fetched. */
export function Fetches({ name }: { name: string }) {
  const client = useQueryClient();
  const known = useQuery(fetches(name));
  const [address, setAddress] = useState("");
  const [hours, setHours] = useState("");
  const done = () => refresh(client, "delivery");
  const add = useMutation({
    mutationFn: () =>
      take(
        api.POST("/datasets/{name}/fetches", {
          params: { path: { name } },
          body: { address, every_minutes: hours ? Math.round(Number(hours) * 60) : undefined },
        }),
      ),
    onSuccess: () => {
      setAddress("");
      return done();
    },
  });
  const run = useMutation({
    mutationFn: (id: number) => take(api.POST("/fetches/{id}/run", { params: { path: { id } } })),
    onSuccess: done,
  });
  const end = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/fetches/{id}", { params: { path: { id } } })),
    onSuccess: done,
  });
  const active = known.data?.filter((f) => !f.ended_at) ?? [];
  return (
    <Section title="Fetch deliveries from a web address">
      <HStack
        as="form"
        gap="3"
        flexWrap="wrap"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <Field
          aria-label="Address"
          placeholder="https://…"
          type="url"
          required
          w="380px"
          value={address}
          onChange={(e) => setAddress(e.target.value)}
        />
        <Field
          aria-label="Every so many hours"
          placeholder="every … hours"
          type="number"
          min={0.1}
          step="any"
          w="130px"
          value={hours}
          onChange={(e) => setHours(e.target.value)}
        />
        <Press needs="work" type="submit" plain loading={add.isPending}>
          Fetch
        </Press>
      </HStack>
      <Trouble error={add.error ?? run.error ?? end.error} />
      {active.map((f) => (
        <HStack key={f.id} gap="3" py="1" fontSize="sm" flexWrap="wrap">
          <chakra.span fontFamily="mono" wordBreak="break-all">
            {f.address}
          </chakra.span>
          <span>
            {f.every_minutes ? `every ${plural(f.every_minutes, "minute", "minutes")}` : "on request"};{" "}
            {f.checked_at ? `${when(f.checked_at)}: ${f.message}` : "not fetched yet"}
          </span>
          {f.table_id && <TableLink id={f.table_id}>newest delivery</TableLink>}
          <Press needs="work" plain size="xs" h="6" onClick={() => run.mutate(f.id)}>
            Fetch now
          </Press>
          <Press needs="work" plain size="xs" h="6" onClick={() => end.mutate(f.id)}>
            End
          </Press>
        </HStack>
      ))}
    </Section>
  );
}
