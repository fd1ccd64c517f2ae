import { chakra, HStack } from "@chakra-ui/react";
import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../client/client";
import { tokens } from "../client/queries";
import { Choice, Field, Press } from "../shared/controls";
import { Grid, More, right, Td, Th, Unseen } from "../shared/grid";
import { Section } from "../shared/parts";
import { Empty, Shown, Trouble } from "../shared/states";
import { when } from "../shared/words";
import { Secret } from "./Secret";

const lesser = ["reader", "steward", "certifier"] as const;
type Lesser = (typeof lesser)[number];

const namesIn = (text: string) => {
  const names = text
    .split(",")
    .map((name) => name.trim())
    .filter(Boolean);
  return names.length > 0 ? names : undefined;
};

/** The tokens by which one comes in, and to an administrator those of everybody: made, and ended. */
export function TokensSection({ everybodys }: { everybodys: boolean }) {
  const client = useQueryClient();
  const all = useInfiniteQuery(tokens);
  const [note, setNote] = useState("");
  const [days, setDays] = useState("");
  const [as, setAs] = useState<Lesser | "">("");
  const [datasets, setDatasets] = useState("");
  const wrong = days !== "" && !(Number.isInteger(Number(days)) && Number(days) >= 1 && Number(days) <= 3650);
  const done = () => client.invalidateQueries({ queryKey: ["tokens"] });
  const make = useMutation({
    mutationFn: () =>
      take(
        api.POST("/tokens", {
          body: {
            note: note || undefined,
            days: days ? Number(days) : undefined,
            as: as || undefined,
            datasets: namesIn(datasets),
          },
        }),
      ),
    onSuccess: () => {
      setNote("");
      setDays("");
      setAs("");
      setDatasets("");
      return done();
    },
  });
  const end = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/tokens/{id}", { params: { path: { id } } })),
    onSuccess: done,
  });
  return (
    <Section title={everybodys ? "Everybody's tokens" : "Your tokens"}>
      <chakra.form
        onSubmit={(e: React.FormEvent) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <HStack gap="3" mb="2" flexWrap="wrap">
          <Field
            aria-label="What the token is for"
            placeholder="what it is for"
            w="240px"
            value={note}
            onChange={(e) => setNote(e.target.value)}
          />
          <Field
            aria-label="Days that it is in force"
            placeholder="days in force"
            inputMode="numeric"
            aria-invalid={wrong}
            w="120px"
            value={days}
            onChange={(e) => setDays(e.target.value)}
          />
          <Choice
            aria-label="As whom it lets in"
            value={as}
            onChange={(e) => setAs(e.target.value as Lesser | "")}
          >
            <option value="">as yourself</option>
            {lesser.map((role) => (
              <option key={role} value={role}>
                as a {role}
              </option>
            ))}
          </Choice>
          <Field
            aria-label="Datasets that it is for, with commas between them"
            placeholder="for all datasets that you see"
            title="For a program: the names of the datasets that it is for, with commas between them"
            w="240px"
            value={datasets}
            onChange={(e) => setDatasets(e.target.value)}
          />
          <Press type="submit" plain loading={make.isPending} disabled={wrong}>
            Make a token
          </Press>
          {wrong && (
            <chakra.span role="alert" fontSize="sm" color="validity">
              A number of days, from 1 to 3,650; nothing for no end.
            </chakra.span>
          )}
        </HStack>
      </chakra.form>
      {make.data && <Secret of={make.data.person} secret={make.data.secret} />}
      <Trouble error={make.error ?? end.error} />
      <Shown query={all}>
        {(page) =>
          page.items.length === 0 ? (
            <Empty>There is no token. Make one above.</Empty>
          ) : (
            <Grid label="Tokens" max="360px">
              <thead>
                <tr>
                  <Th {...right}>token</Th>
                  <Th>of</Th>
                  <Th>as</Th>
                  <Th>datasets</Th>
                  <Th>for</Th>
                  <Th>made</Th>
                  <Th>in force</Th>
                  <Unseen>end it</Unseen>
                </tr>
              </thead>
              <tbody>
                {page.items.map((t) => (
                  <tr key={t.id}>
                    <Td {...right}>{t.id}</Td>
                    <Td>{t.person}</Td>
                    <Td>{t.as || t.role}</Td>
                    <Td overflowWrap="anywhere">{t.datasets || "all that they see"}</Td>
                    <Td>{t.note}</Td>
                    <Td>{when(t.created_at)}</Td>
                    <Td>
                      {t.revoked_at
                        ? `ended ${when(t.revoked_at)}`
                        : t.expires_at
                          ? `until ${when(t.expires_at)}`
                          : "without end"}
                    </Td>
                    <Td>
                      {!t.revoked_at && (
                        <Press
                          plain
                          size="xs"
                          h="6"
                          aria-label={`End token ${t.id} of ${t.person}`}
                          onClick={() => end.mutate(t.id)}
                        >
                          End
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
      {all.data && <More query={all} shown={all.data.items.length} />}
    </Section>
  );
}
