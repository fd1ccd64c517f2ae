import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { estimatesCompared, useJob } from "../client/queries";
import { Densities } from "../explore/compare/Densities";
import { Choice, Press } from "../shared/controls";
import { Grid, right, Td, Th } from "../shared/grid";
import { Section } from "../shared/parts";
import { Progress, Shown, Trouble } from "../shared/states";
import { count, percent, plural, short } from "../shared/words";
import { Draws } from "./Draws";
import { stepName } from "./ledger";

type Compared = Schemas["Comparison"];
type Way = Compared["ways"][number];
type Change = Schemas["StepChange"];

/** Asks for the methods by which a step could estimate to be compared. */
export function WeighIt(props: { id: number; source: string; step: number; done: (job: number) => void }) {
  const start = useMutation({
    mutationFn: () =>
      take(
        api.POST("/tables/{id}/estimates", {
          params: { path: { id: props.id } },
          body: { source: props.source, step: props.step },
        }),
      ),
    onSuccess: (job) => props.done(job.id),
  });
  return (
    <Box ps="3" pb="2" borderLeftWidth="3px" borderColor="accent">
      <Press needs="work" plain onClick={() => start.mutate()} loading={start.isPending}>
        Compare the methods
      </Press>
      <Trouble error={start.error} />
    </Box>
  );
}

/** The fields of a step that estimates by a method, as the comparison tried it. */
function taken(step: number, w: Way): Change[] {
  const drawn = w.alike_in.length > 0;
  const columns = (name: string, values: string[]) => ({
    name,
    values: values.length > 0 ? values : undefined,
  });
  const fields: Schemas["Field"][] = [
    { name: "method", value: w.method },
    columns("alike_in", w.alike_in),
    columns("group", w.group),
    columns("order", w.order),
    ...(drawn ? [{ name: "decimals" }] : [{ name: "neighbours" }, { name: "draws" }, { name: "seed" }]),
  ];
  return fields.map((field) => ({ step, field }));
}

/** What each method would make of the gaps, with a press to take one. */
export function Weighed(props: { job: number; step: number; change: (all: Change[]) => void }) {
  const job = useJob(props.job);
  const ended = job?.state === "done";
  const found = useQuery({ ...estimatesCompared(props.job), enabled: ended });
  if (job?.state === "failed") {
    return <Trouble error={new Error(job.error)} />;
  }
  if (job && !ended) {
    return <Progress job={job} />;
  }
  return (
    <Shown query={found}>
      {(c) => <Comparison c={c} take={(w) => props.change(taken(props.step, w))} />}
    </Shown>
  );
}

/** A number as far as it matters beside others of its kind: with four digits. */
const figure = (n: number | null | undefined) =>
  n == null
    ? ""
    : Math.abs(n) >= 1e4
      ? short(Math.round(n))
      : n.toLocaleString("en-GB", { maximumSignificantDigits: 4 });
/** A correlation; there is none with a constant column. */
const kept = (n: number | null | undefined) =>
  n == null ? "none" : n.toFixed(2).replace(/^-0\.00$/, "0.00");
/** A share of one, which may be more than that: 100 % only where it is exactly that. */
const share = (n: number | null | undefined) =>
  n == null ? "" : n > 1 ? `${Math.max(100 * n, 100.01).toFixed(2)} %` : `${percent(100 * n)} %`;

function Comparison({ c, take }: { c: Compared; take: (w: Way) => void }) {
  const tried = c.ways.filter((w) => !w.trouble);
  const [chosen, choose] = useState(tried[0]?.method);
  const way = tried.find((w) => w.method === chosen);
  const partly = c.donors < c.observed || c.gaps_seen < c.gaps;
  return (
    <Section title={`How the gaps of ${c.column} could be estimated`}>
      <Text>
        {count(c.gaps)} of {plural(c.gaps + c.observed, "cell is", "cells are")} missing.{" "}
        {partly &&
          `This rests on ${count(c.donors)} of the values and ${count(c.gaps_seen)} of the gaps, taken by the seed ${c.seed}.`}
      </Text>
      {c.warnings.map((w) => (
        <Text
          key={w}
          role="alert"
          fontWeight="600"
          borderLeftWidth="4px"
          borderColor="validity"
          ps="2"
          my="1"
        >
          {w}
        </Text>
      ))}
      <OnWhat c={c} />
      <Text fontSize="sm" color="quiet" mt="2">
        One observed value in ten was hidden, and estimated by each method. How well a method puts these back
        says nothing of values that are missing because of what they are.
      </Text>
      <Methods c={c} take={take} />
      {c.dropping.bias != null && (
        <Text fontSize="sm">
          Setting {plural(c.dropping.rows, "row", "rows")} aside would throw their other values away, and move
          the mean by {figure(c.dropping.bias)}, by what is foretold of them.
        </Text>
      )}
      {way && c.bounds.length > 1 && (
        <>
          <HStack mt="3" gap="2">
            <Text fontSize="sm">Drawn are the estimates by</Text>
            <Choice aria-label="Method" value={way.method} onChange={(e) => choose(e.target.value)}>
              {tried.map((w) => (
                <option key={w.method} value={w.method}>
                  {stepName(w.method)}
                </option>
              ))}
            </Choice>
          </HStack>
          <Densities
            one={steps(c.bounds, c.bins)}
            other={steps(c.bounds, way.bins)}
            kind="numbers"
            name={c.column}
            file={`${c.column}_estimates`}
            called={["observed", `estimated by ${stepName(way.method)}`]}
          />
          {way.draws.length > 1 && <Draws column={c.column} way={way} />}
        </>
      )}
    </Section>
  );
}

/** Bins as steps, whose heights are shares for each unit. */
function steps(bounds: number[], bins: number[]) {
  const all = bins.reduce((a, b) => a + b, 0) || 1;
  return bins.map((n, i) => ({
    from: bounds[i],
    to: bounds[i + 1],
    height: n / all / (bounds[i + 1] - bounds[i]),
  }));
}

function OnWhat({ c }: { c: Compared }) {
  if (c.depends.length === 0) {
    return null;
  }
  return (
    <Box as="ul" ps="5" my="1">
      {c.depends.map((d) => (
        <li key={d.column}>
          {d.most
            ? `Gaps go with ${d.column}: ${share(d.share)} are missing at ${d.most} (strength ${figure(d.strength)} of 1).`
            : `${d.column} is ${figure(d.strength)} standard deviations ${d.higher ? "higher" : "lower"} where ${c.column} is missing.`}
        </li>
      ))}
    </Box>
  );
}

function Methods({ c, take }: { c: Compared; take: (w: Way) => void }) {
  const numbers = c.mean != null;
  return (
    <Grid label="Methods compared">
      <thead>
        <tr>
          <Th>choice</Th>
          {numbers ? (
            <>
              <Th {...right} title="The root of the mean square of estimate less truth">
                error
              </Th>
              <Th {...right} title="The mean of estimate less truth">
                bias
              </Th>
              <Th {...right} title="The standard deviation of the column then, as a share of the true one">
                spread kept
              </Th>
              <Th title="Correlations with other columns: with the estimates, of the true ones">
                correlations kept
              </Th>
              <Th {...right}>mean then</Th>
              <Th {...right} title="It holds the true mean with a confidence of 95 %, by Rubin's rules">
                95 % from, to
              </Th>
              <Th {...right}>sum then</Th>
            </>
          ) : (
            <Th {...right}>exactly right</Th>
          )}
          <Th {...right}>gaps left</Th>
        </tr>
      </thead>
      <tbody>
        {numbers && (
          <tr>
            <Td whiteSpace="nowrap">set the rows aside</Td>
            <Td />
            <Td />
            <Td />
            <Td />
            <Td {...right}>{figure(c.mean)}</Td>
            <Td />
            <Td {...right}>{figure(c.sum)}</Td>
            <Td />
          </tr>
        )}
        {c.ways.map((w) => (
          <tr key={w.method}>
            <Td whiteSpace="nowrap">
              {stepName(w.method)}{" "}
              {!w.trouble && (
                <Press
                  plain
                  size="xs"
                  h="6"
                  needs="work"
                  aria-label={`Take ${stepName(w.method)}`}
                  onClick={() => take(w)}
                >
                  Take it
                </Press>
              )}
            </Td>
            {w.trouble ? (
              <Td colSpan={numbers ? 8 : 2}>{w.trouble}</Td>
            ) : (
              <>
                {numbers ? <Weights w={w} /> : <Td {...right}>{share(w.right)}</Td>}
                <Td {...right}>{w.open > 0 && share(w.open)}</Td>
              </>
            )}
          </tr>
        ))}
      </tbody>
    </Grid>
  );
}

function Weights({ w }: { w: Way }) {
  return (
    <>
      <Td {...right}>{figure(w.error)}</Td>
      <Td {...right}>{figure(w.bias)}</Td>
      <Td {...right}>{share(w.spread)}</Td>
      <Td fontSize="sm">
        {w.kept.slice(0, 3).map((k) => (
          <chakra.span key={k.column} display="block" whiteSpace="nowrap">
            {k.column} {kept(k.estimated)} of {kept(k.true)}
          </chakra.span>
        ))}
        {w.kept.length > 3 && (
          <chakra.span
            color="quiet"
            title={w.kept.map((k) => `${k.column} ${kept(k.estimated)} of ${kept(k.true)}`).join(", ")}
          >
            and {w.kept.length - 3} more
          </chakra.span>
        )}
      </Td>
      <Td {...right}>{figure(w.mean)}</Td>
      <Td {...right} whiteSpace="nowrap">
        {w.mean_from != null && `${figure(w.mean_from)} – ${figure(w.mean_to)}`}
      </Td>
      <Td {...right}>{figure(w.sum)}</Td>
    </>
  );
}
