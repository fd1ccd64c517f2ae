import { chakra, HStack, Text } from "@chakra-ui/react";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { receivers, sendings } from "../client/queries";
import { Secret } from "../people/Secret";
import { Choice, Field, Press } from "../shared/controls";
import { Grid, More, right, Td, Th, Unseen } from "../shared/grid";
import { Section } from "../shared/parts";
import { Empty, Shown, Trouble } from "../shared/states";
import { said } from "../shared/toasts";
import { count, when } from "../shared/words";
import { asKind, kindWord, type NoticeKind, noticeKinds } from "./noticeWords";

const refreshed = ["receivers", "sendings"];
const lookEvery = 5000; // milliseconds: things are sent by themselves

/** The programs that are told, and what was sent to whom. */
export function ReceiversSection() {
  const all = useQuery({ ...receivers, refetchInterval: lookEvery });
  return (
    <>
      <Section title="Programs that are told">
        <Shown query={all}>
          {(found) =>
            found.length === 0 ? (
              <Empty>No program is told of what happens. Add one below, or by proudsieve receiver add.</Empty>
            ) : (
              <ReceiverGrid receivers={found} />
            )
          }
        </Shown>
        <AddReceiver />
      </Section>
      <SendingsSection />
    </>
  );
}

function ReceiverGrid({ receivers: all }: { receivers: Schemas["Receiver"][] }) {
  const client = useQueryClient();
  const done = () =>
    client.invalidateQueries({ predicate: (q) => refreshed.includes(String(q.queryKey[0])) });
  const trial = useMutation({
    mutationFn: (id: number) => take(api.POST("/receivers/{id}/trial", { params: { path: { id } } })),
  });
  const renew = useMutation({
    mutationFn: (id: number) => take(api.POST("/receivers/{id}/secret", { params: { path: { id } } })),
  });
  const remove = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/receivers/{id}", { params: { path: { id } } })),
    onSuccess: () => {
      said("The program is told no more.");
      return done();
    },
  });
  return (
    <>
      <Grid label="Programs that are told">
        <thead>
          <tr>
            <Th>name</Th>
            <Th>address</Th>
            <Th>of</Th>
            <Th {...right}>sent</Th>
            <Th {...right}>waiting</Th>
            <Th {...right}>given up</Th>
            <Th>what went wrong last</Th>
            <Unseen>what an administrator can do</Unseen>
          </tr>
        </thead>
        <tbody>
          {all.map((r) => (
            <tr key={r.id}>
              <Td fontWeight="600">{r.name}</Td>
              <Td overflowWrap="anywhere">{r.address}</Td>
              <Td>{toldOfKinds(r.kinds as NoticeKind[])}</Td>
              <Td {...right}>{count(r.sent)}</Td>
              <Td {...right}>{count(r.waiting)}</Td>
              <Td {...right}>{count(r.given_up)}</Td>
              <Td overflowWrap="anywhere">{r.problem}</Td>
              <Td>
                <HStack gap="2">
                  <Press
                    plain
                    size="xs"
                    h="6"
                    aria-label={`Try ${r.name}`}
                    onClick={() => trial.mutate(r.id)}
                  >
                    Try it
                  </Press>
                  <Press
                    plain
                    size="xs"
                    h="6"
                    aria-label={`Make another secret of ${r.name}`}
                    onClick={() => renew.mutate(r.id)}
                  >
                    Another secret
                  </Press>
                  <Press
                    plain
                    size="xs"
                    h="6"
                    aria-label={`Tell ${r.name} no more`}
                    onClick={() => remove.mutate(r.id)}
                  >
                    Remove
                  </Press>
                </HStack>
              </Td>
            </tr>
          ))}
        </tbody>
      </Grid>
      {trial.data && <Text role="status">{trial.data.says}</Text>}
      {renew.data && <Secret what="secret" of={renew.data.name} secret={renew.data.secret} />}
      <Trouble error={trial.error ?? renew.error ?? remove.error} />
    </>
  );
}

const toldOfKinds = (kinds: NoticeKind[]) =>
  kinds.length === 0 ? "everything" : kinds.map((k) => kindWord[k]).join(", ");

function AddReceiver() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const [kind, setKind] = useState<NoticeKind>();
  const add = useMutation({
    mutationFn: () =>
      take(
        api.POST("/receivers", {
          body: { name: name.trim(), address: address.trim(), kinds: kind ? [kind] : [] },
        }),
      ),
    onSuccess: () => {
      setName("");
      setAddress("");
      return client.invalidateQueries({ queryKey: ["receivers"] });
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
      <HStack gap="3" flexWrap="wrap">
        <Field
          aria-label="Name of the program"
          placeholder="name"
          required
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Field
          aria-label="Its web address"
          placeholder="https://host/path"
          required
          w="22rem"
          maxW="100%"
          value={address}
          onChange={(e) => setAddress(e.target.value)}
        />
        <Choice
          aria-label="What it is told of"
          value={kind ?? ""}
          onChange={(e) => setKind(asKind(e.target.value))}
        >
          <option value="">of everything</option>
          {noticeKinds.map((k) => (
            <option key={k} value={k}>
              {kindWord[k]}
            </option>
          ))}
        </Choice>
        <Press type="submit" loading={add.isPending} disabled={name.trim() === "" || address.trim() === ""}>
          Tell it
        </Press>
      </HStack>
      <Trouble error={add.error} />
      {add.data && <Secret what="secret" of={add.data.name} secret={add.data.secret} />}
    </chakra.form>
  );
}

/** What was sent to people and programs, and what could not be. */
function SendingsSection() {
  const client = useQueryClient();
  const [state, setState] = useState<Schemas["Sending"]["state"]>();
  const found = useInfiniteQuery({ ...sendings(state), refetchInterval: lookEvery });
  const again = useMutation({
    mutationFn: (id: number) => take(api.POST("/sendings/{id}/again", { params: { path: { id } } })),
    onSuccess: () =>
      client.invalidateQueries({ predicate: (q) => refreshed.includes(String(q.queryKey[0])) }),
  });
  return (
    <Section title="What was sent">
      <Choice
        aria-label="Only what is"
        value={state ?? ""}
        onChange={(e) => setState((e.target.value || undefined) as Schemas["Sending"]["state"] | undefined)}
      >
        <option value="">all</option>
        <option value="waiting">waiting</option>
        <option value="sent">sent</option>
        <option value="given_up">given up</option>
      </Choice>
      <Shown query={found}>
        {(page) =>
          page.items.length === 0 ? (
            <Empty>Nothing is so.</Empty>
          ) : (
            <Grid label="What was sent" max="420px">
              <thead>
                <tr>
                  <Th>when</Th>
                  <Th>to</Th>
                  <Th>what</Th>
                  <Th>state</Th>
                  <Th {...right}>tries</Th>
                  <Th>what went wrong last</Th>
                  <Unseen>what an administrator can do</Unseen>
                </tr>
              </thead>
              <tbody>
                {page.items.map((s) => (
                  <tr key={s.id}>
                    <Td whiteSpace="nowrap">{when(s.created_at)}</Td>
                    <Td>{s.to}</Td>
                    <Td overflowWrap="anywhere">{s.says}</Td>
                    <Td whiteSpace="nowrap">{s.state.replace("_", " ")}</Td>
                    <Td {...right}>{count(s.attempts)}</Td>
                    <Td overflowWrap="anywhere">{s.problem}</Td>
                    <Td>
                      {s.state === "given_up" && (
                        <Press
                          plain
                          size="xs"
                          h="6"
                          aria-label={`Send to ${s.to} once more: ${s.says}`}
                          onClick={() => again.mutate(s.id)}
                        >
                          Once more
                        </Press>
                      )}
                    </Td>
                  </tr>
                ))}
              </tbody>
            </Grid>
          )
        }
      </Shown>
      <More query={found} shown={found.data?.items.length ?? 0} />
      <Trouble error={again.error} />
    </Section>
  );
}
