import { Box, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { datasetRecord, refresh } from "../client/queries";
import { Choice, Field, Press } from "../shared/controls";
import { Grid, right, Td, Th } from "../shared/grid";
import { Section, TableLink } from "../shared/parts";
import { Shown, Trouble } from "../shared/states";
import { count, plural } from "../shared/words";

/** How the deliveries went: which came late or not at all, by provider, which rules come back, how long answers take. */
export function RecordSection({ name }: { name: string }) {
  const record = useQuery(datasetRecord(name));
  return (
    <Section title="How its deliveries went">
      <Shown query={record}>
        {(r) => (
          <>
            <Expected name={name} r={r} />
            {r.providers.length > 0 && <Providers providers={r.providers} />}
            {r.come_back.length > 0 && (
              <Text mt="2">
                Rules that come back:{" "}
                {r.come_back.map((c, i) => (
                  <span key={c.issue}>
                    {i > 0 && ", "}
                    <Link to="/issues/$id" params={{ id: String(c.issue) }}>
                      {c.rule}
                    </Link>{" "}
                    ({plural(c.times, "time", "times")})
                  </span>
                ))}
                .
              </Text>
            )}
            {r.answers.map((a) => (
              <Text key={a.recipient} mt="1">
                {a.recipient} answered {count(a.answered)} of {plural(a.asked, "question", "questions")}
                {a.days !== null &&
                  `, half of them within ${a.days < 0.1 ? "0.1 days" : plural(Math.round(a.days * 10) / 10, "day", "days")}`}
                .
              </Text>
            ))}
          </>
        )}
      </Shown>
    </Section>
  );
}

const periods = ["day", "week", "month", "quarter", "year"];

/** By when deliveries are expected, and which of them came. */
function Expected({ name, r }: { name: string; r: Schemas["DatasetRecord"] }) {
  const client = useQueryClient();
  const [changes, setChanges] = useState(false);
  const set = useMutation({
    mutationFn: (expects?: Schemas["ExpectedDeliveries"]) =>
      take(api.PUT("/datasets/{name}/expects", { params: { path: { name } }, body: { expects } })),
    onSuccess: () => {
      setChanges(false);
      return refresh(client, "delivery");
    },
  });
  const e = r.expects;
  const over = r.dues.filter((d) => d.table !== 0 || d.late > 0).reverse();
  const next = r.dues.find((d) => d.table === 0 && d.late === 0);
  return (
    <>
      <HStack gap="3" flexWrap="wrap">
        <Text>
          {e
            ? `One is expected every ${e.every} by its day ${count(e.by)}, since ${e.since}: ${count(r.late)} came late, ${count(r.missed)} did not come${next ? `; the next is due on ${next.day}` : ""}.`
            : "Nobody said by when a delivery is expected, so that none is missed."}
        </Text>
        <Press plain size="xs" needs="work" onClick={() => setChanges(!changes)}>
          {e ? "Expect otherwise" : "Expect deliveries"}
        </Press>
        {e && (
          <Press plain size="xs" needs="work" loading={set.isPending} onClick={() => set.mutate(undefined)}>
            Expect none
          </Press>
        )}
      </HStack>
      {changes && (
        <HStack
          as="form"
          gap="2"
          my="2"
          flexWrap="wrap"
          onSubmit={(event) => {
            event.preventDefault();
            const form = new FormData(event.currentTarget as unknown as HTMLFormElement);
            set.mutate({
              every: String(form.get("every")) as Schemas["ExpectedDeliveries"]["every"],
              by: Number(form.get("by")),
              since: String(form.get("since")),
            });
          }}
        >
          <Text>every</Text>
          <Choice name="every" aria-label="How often" defaultValue={e?.every ?? "month"}>
            {periods.map((p) => (
              <option key={p}>{p}</option>
            ))}
          </Choice>
          <Text>by the end of its day</Text>
          <Field
            name="by"
            type="number"
            min={1}
            max={366}
            required
            w="80px"
            aria-label="By which day of it"
            defaultValue={e?.by ?? 5}
          />
          <Text>since</Text>
          <Field
            name="since"
            type="date"
            required
            aria-label="Since"
            defaultValue={e?.since ?? new Date().toISOString().slice(0, 10)}
          />
          <Press type="submit" loading={set.isPending}>
            Save
          </Press>
        </HStack>
      )}
      <Trouble error={set.error} />
      {over.length > 0 && (
        <Box maxW="760px" my="2">
          <Grid label="Expected deliveries" max="200px">
            <thead>
              <tr>
                <Th>expected by</Th>
                <Th>delivery</Th>
                <Th>how it came</Th>
              </tr>
            </thead>
            <tbody>
              {over.map((d) => (
                <tr key={d.day}>
                  <Td>{d.day}</Td>
                  <Td>{d.table ? <TableLink id={d.table}>{d.file_name}</TableLink> : "none"}</Td>
                  <Td>
                    {d.late === 0
                      ? "in time"
                      : `${plural(d.late, "day", "days")} late${d.table ? "" : ", and not there"}`}
                  </Td>
                </tr>
              ))}
            </tbody>
          </Grid>
        </Box>
      )}
    </>
  );
}

function Providers({ providers }: { providers: Schemas["ProviderRecord"][] }) {
  return (
    <Box maxW="760px" my="2">
      <Grid label="Providers">
        <thead>
          <tr>
            <Th>provider</Th>
            <Th {...right}>deliveries</Th>
            <Th {...right}>judged</Th>
            <Th {...right}>fell short</Th>
            <Th {...right}>late</Th>
          </tr>
        </thead>
        <tbody>
          {providers.map((p) => (
            <tr key={p.provider}>
              <Td>{p.provider || "not said"}</Td>
              <Td {...right}>{count(p.deliveries)}</Td>
              <Td {...right}>{count(p.judged)}</Td>
              <Td {...right}>{count(p.short)}</Td>
              <Td {...right}>{count(p.late)}</Td>
            </tr>
          ))}
        </tbody>
      </Grid>
    </Box>
  );
}
