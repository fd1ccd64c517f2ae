import { chakra, Text } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../../client/client";
import { Grid, right, Td, Th } from "../../shared/grid";
import { SortHead } from "../../shared/SortHead";
import { Empty } from "../../shared/states";
import { Value } from "../../shared/Value";
import { count, glance, plural } from "../../shared/words";
import { calledOf, groupCalled, measureCalled, meets, rowsOf } from "./expressions";

type Tally = Schemas["Tally"];
type Told = Schemas["Tallied"];
type Shown = {
  t: Schemas["Table"];
  x: Tally;
  where?: string;
  by?: string;
  falling?: boolean;
  sort: (to: { sort?: string; falling?: boolean }) => void;
};

/** The groups as a table; each number opens the rows that it is of. */
export function TallyGrid(props: Shown) {
  const { x } = props;
  if (x.all.rows === 0) {
    return <Empty>No row is so. Take the condition back, or choose another.</Empty>;
  }
  return (
    <>
      {x.by.length === 2 ? <Crossed {...props} /> : <Listed {...props} />}
      <Text fontSize="sm" color="quiet" mt="1">
        {plural(x.all.rows, "row", "rows")} in all.
        {x.by.some((b) => b.rest > 0) &&
          ` ${x.by
            .filter((b) => b.rest > 0)
            .map(
              (b) =>
                `The first ${count(b.groups.length)} of ${count(b.groups.length + b.rest)} groups of ${calledOf(b.expression)} stand on their own`,
            )
            .join("; ")}.`}{" "}
        Each number opens its rows. ≈ is an estimate, of quantiles to within 0.05 % of themselves.
      </Text>
    </>
  );
}

/** The value of a measure for people, and the whole of it as a title. */
function Figure({ told, m }: { told: Told; m: number }) {
  const text = told.values[m];
  return (
    <span title={text}>
      {told.estimated?.[m] && "≈ "}
      {Number.isInteger(Number(text)) && text !== "" ? count(Number(text)) : glance(text)}
    </span>
  );
}

function Opens(props: Shown & { told: Told; conditions: string[]; m: number }) {
  if (props.told.rows === 0) {
    return null;
  }
  return (
    <Link
      to="/tables/$id"
      params={{ id: String(props.t.id) }}
      search={rowsOf(props.where, props.conditions)}
      title={`${plural(props.told.rows, "row", "rows")}; show them`}
    >
      <Figure told={props.told} m={props.m} />
    </Link>
  );
}

function Name({ x, by, i }: { x: Tally; by: number; i: number }) {
  const g = x.by[by].groups[i];
  if (!g) {
    return <chakra.span color="quiet">{plural(x.by[by].rest, "other", "others")}</chakra.span>;
  }
  return g.missing ? (
    <chakra.span color="quiet">missing</chakra.span>
  ) : (
    <Value text={groupCalled(x.by[by], g)} />
  );
}

/** How much of the greatest a value is, as a shade behind it. */
const shade = (value: string, most: number) =>
  most > 0 && Number(value) > 0
    ? `linear-gradient(to left, var(--chakra-colors-sunken) ${(100 * Number(value)) / most}%, transparent 0)`
    : undefined;

const greatest = (all: Told[], m: number) => Math.max(0, ...all.map((c) => Number(c.values[m]) || 0));

/** Groups of one expression, a line each, with all measures. */
function Listed(props: Shown) {
  const { x } = props;
  const groups = x.by[0]?.groups ?? [];
  const head = { by: props.by, falling: props.falling, sort: props.sort };
  const most = x.measures.map((_, k) => greatest(x.downs, k));
  return (
    <Grid label="Groups" max="calc(100vh - 260px)">
      <thead>
        <tr>
          <SortHead name="group" {...head} left="0" zIndex="2">
            {calledOf(x.by[0]?.expression ?? "")}
          </SortHead>
          {x.measures.map((m) => (
            <SortHead key={measureCalled(m)} name={nameOf(m)} {...head} {...right}>
              {measureCalled(m)}
            </SortHead>
          ))}
        </tr>
      </thead>
      <tbody>
        {x.downs.map((told, i) => (
          <tr key={groups[i]?.text ?? "rest"}>
            <Td position="sticky" left="0">
              <Name x={x} by={0} i={i} />
            </Td>
            {x.measures.map((m, k) => (
              <Td key={measureCalled(m)} {...right} bgImage={shade(told.values[k], most[k])}>
                {groups[i] ? (
                  <Opens {...props} told={told} m={k} conditions={[meets(x.by[0], groups[i])]} />
                ) : (
                  <Figure told={told} m={k} />
                )}
              </Td>
            ))}
          </tr>
        ))}
        <tr>
          <Td position="sticky" left="0" fontWeight="600">
            all
          </Td>
          {x.measures.map((m, k) => (
            <Td key={measureCalled(m)} {...right} fontWeight="600">
              <Opens {...props} told={x.all} m={k} conditions={[]} />
            </Td>
          ))}
        </tr>
      </tbody>
    </Grid>
  );
}

/** What the service calls a measure. */
const nameOf = (m: Schemas["Measure"]) =>
  `${m.kind}${m.of ? ` ${m.of}` : ""}${m.share === "before" ? ", % more than before" : m.share ? `, % of ${m.share}` : ""}`;

/** Groups of two expressions against each other, in the first measure. */
function Crossed(props: Shown) {
  const { x } = props;
  const [down, across] = x.by;
  const most = greatest(x.cells.flat(), 0);
  return (
    <Grid
      label={`Groups of ${calledOf(down.expression)} and ${calledOf(across.expression)}`}
      max="calc(100vh - 260px)"
    >
      <thead>
        <tr>
          <SortHead name="group" by={props.by} falling={props.falling} sort={props.sort} left="0" zIndex="2">
            {calledOf(down.expression)}
          </SortHead>
          {x.across.map((_, k) => (
            <Th key={across.groups[k]?.text ?? "rest"} {...right}>
              <Name x={x} by={1} i={k} />
            </Th>
          ))}
          <SortHead
            name={nameOf(x.measures[0])}
            by={props.by}
            falling={props.falling}
            sort={props.sort}
            {...right}
          >
            all
          </SortHead>
        </tr>
      </thead>
      <tbody>
        {x.cells.map((line, i) => (
          <tr key={down.groups[i]?.text ?? "rest"}>
            <Td position="sticky" left="0">
              <Name x={x} by={0} i={i} />
            </Td>
            {line.map((told, k) => (
              <Td key={across.groups[k]?.text ?? "rest"} {...right} bgImage={shade(told.values[0], most)}>
                {down.groups[i] && across.groups[k] ? (
                  <Opens
                    {...props}
                    told={told}
                    m={0}
                    conditions={[meets(down, down.groups[i]), meets(across, across.groups[k])]}
                  />
                ) : (
                  told.rows > 0 && <Figure told={told} m={0} />
                )}
              </Td>
            ))}
            <Td {...right} fontWeight="600">
              <Figure told={x.downs[i]} m={0} />
            </Td>
          </tr>
        ))}
        <tr>
          <Td position="sticky" left="0" fontWeight="600">
            all
          </Td>
          {x.across.map((told, k) => (
            <Td key={across.groups[k]?.text ?? "rest"} {...right} fontWeight="600">
              <Figure told={told} m={0} />
            </Td>
          ))}
          <Td {...right} fontWeight="600">
            <Opens {...props} told={x.all} m={0} conditions={[]} />
          </Td>
        </tr>
      </tbody>
    </Grid>
  );
}
