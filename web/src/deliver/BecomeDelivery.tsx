import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { type ReactNode, useId, useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { type ReadingWish, refresh } from "../client/queries";
import { Field, Press } from "../shared/controls";
import { TableLink } from "../shared/parts";
import { Trouble } from "../shared/states";
import { count, sourceNotes } from "../shared/words";
import { nameShape, wrongName } from "./names";

/** Makes a file that was looked at a delivery of a dataset that there is, or of a new one. */
export function BecomeDelivery({ look, wish }: { look: Schemas["LookedAt"]; wish: ReadingWish }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const { dataset, fresh } = useSearch({ from: "/new" });
  const offered =
    look.fits.some((f) => f.dataset === dataset) || !dataset ? look.fits : [named(dataset), ...look.fits];
  const isNew = !dataset && (fresh || offered.length === 0);
  const choose = (to: { dataset?: string; fresh?: boolean }) =>
    navigate({ to: "/new", search: { arrival: look.arrival.id, reading: wish, ...to }, replace: true });
  const [name, setName] = useState(look.name);
  const [title, setTitle] = useState("");
  const [notes, setNotes] = useState<Record<string, string>>({});
  const wrong = !isNew || nameShape.test(name) ? undefined : wrongName;
  const send = useMutation({
    mutationFn: () =>
      take(
        api.POST("/arrivals/{id}/delivery", {
          params: { path: { id: look.arrival.id } },
          body: {
            dataset: dataset ?? name,
            title: dataset ? undefined : title || undefined,
            reading: look.rulebook ? undefined : wish,
            source: notes,
          },
        }),
      ),
    onSuccess: async (delivered) => {
      await refresh(client, "delivery");
      if (!delivered.known) {
        navigate({ to: "/tables/$id", params: { id: String(delivered.table.id) } });
      }
    },
  });
  return (
    <chakra.form
      onSubmit={(e: React.FormEvent) => {
        e.preventDefault();
        if (!wrong) {
          send.mutate();
        }
      }}
    >
      <Box as="fieldset" border="0">
        <chakra.legend srOnly>What the file is</chakra.legend>
        {offered.map((f) => (
          <One key={f.dataset} chosen={dataset === f.dataset} choose={() => choose({ dataset: f.dataset })}>
            the next delivery of <strong>{f.title || f.dataset}</strong>
            {f.columns > 0 && (
              <chakra.span color="quiet">
                {" "}
                ({count(f.same)} of its {count(f.columns)} columns stand here)
              </chakra.span>
            )}
          </One>
        ))}
        <One chosen={isNew} choose={() => choose({ fresh: true })}>
          the first delivery of a new dataset
        </One>
      </Box>
      {isNew && (
        <HStack gap="4" align="start" flexWrap="wrap" my="2">
          <Labelled label="Name">
            {(id) => (
              <>
                <Field
                  id={id}
                  required
                  aria-invalid={wrong !== undefined}
                  value={name}
                  onChange={(e) => setName(e.target.value)}
                />
                {wrong && (
                  <Text role="alert" fontSize="sm" color="validity" maxW="300px">
                    {wrong}
                  </Text>
                )}
              </>
            )}
          </Labelled>
          <Labelled label="What it is, in a few words">
            {(id) => <Field id={id} w="320px" value={title} onChange={(e) => setTitle(e.target.value)} />}
          </Labelled>
        </HStack>
      )}
      <Text color="quiet" fontSize="sm" mt="2">
        What is known of it, for whoever takes over
      </Text>
      <HStack gap="4" flexWrap="wrap" mb="3">
        {sourceNotes.map((n) => (
          <Labelled key={n.name} label={n.label}>
            {(id) => (
              <Field
                id={id}
                placeholder={n.hint}
                w="190px"
                value={notes[n.name] ?? ""}
                onChange={(e) => setNotes({ ...notes, [n.name]: e.target.value })}
              />
            )}
          </Labelled>
        ))}
      </HStack>
      <HStack gap="3">
        <Press needs="work" type="submit" loading={send.isPending} disabled={!dataset && !isNew}>
          Take it in
        </Press>
        {!dataset && !isNew && <Text color="quiet">Say above what it is.</Text>}
      </HStack>
      <Trouble error={send.error} />
      {send.data?.known && (
        <Text role="status" py="1">
          {send.data.message} <TableLink id={send.data.table.id}>Show it</TableLink>
        </Text>
      )}
    </chakra.form>
  );
}

/** A dataset whose page somebody came from, of which nothing is known here. */
const named = (dataset: string) => ({ dataset, title: "", same: 0, columns: 0, ruled: false });

function One(props: { chosen: boolean; choose: () => void; children: ReactNode }) {
  return (
    <chakra.label display="block" py="0.5">
      <input type="radio" name="dataset" checked={props.chosen} onChange={props.choose} /> {props.children}
    </chakra.label>
  );
}

function Labelled({ label, children }: { label: string; children: (id: string) => ReactNode }) {
  const id = useId();
  return (
    <Box>
      <chakra.label htmlFor={id} display="block" fontSize="sm">
        {label}
      </chakra.label>
      {children(id)}
    </Box>
  );
}
