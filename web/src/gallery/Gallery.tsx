import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { type ReactNode, useState } from "react";
import { Densities } from "../explore/compare/Densities";
import { PointsPicture } from "../explore/relations/PointsPicture";
import { Choice, Field, Press, Writing } from "../shared/controls";
import { Entry } from "../shared/Entry";
import { Editor } from "../shared/editor/Editor";
import { Grid, More, right, Td, Th } from "../shared/grid";
import { Kept } from "../shared/Kept";
import { Mesh } from "../shared/Mesh";
import { PathBar } from "../shared/PathBar";
import { Gaps, LargePicture, SmallPicture } from "../shared/Picture";
import { Section, Severity, Title, Verdict } from "../shared/parts";
import { SortHead } from "../shared/SortHead";
import { Empty, Outdated, Progress, Shown, Trouble, Waiting } from "../shared/states";
import { Term } from "../shared/Term";
import { Value } from "../shared/Value";
import { middle } from "../shared/words";
import { column, dates, goodText, job, longName, meshes, numbers, refusals, wrongText } from "./made";

/** Each shared component in all its states: loading, empty, error, no right, long names, 600 columns. */
export function Gallery() {
  return (
    <Box as="main" px={{ base: "3", md: "5" }} py="3">
      <Title>Gallery</Title>
      <Controls />
      <States />
      <Values />
      <Grids />
      <Meshes />
      <Pictures />
      <Editors />
    </Box>
  );
}

function State({ name, children }: { name: string; children: ReactNode }) {
  return (
    <Box mb="3" data-state={name}>
      <Text fontSize="xs" color="quiet">
        {name}
      </Text>
      {children}
    </Box>
  );
}

function Controls() {
  const [text, setText] = useState("5O");
  return (
    <Section title="Controls">
      <State name="buttons: main, plain, busy, not now, no right">
        <HStack gap="3" flexWrap="wrap">
          <Press>Save</Press>
          <Press plain>Take it back</Press>
          <Press loading>Save</Press>
          <Press disabled>Save</Press>
          <Press needs="work">Save as the next version</Press>
        </HStack>
      </State>
      <State name="fields: empty, filled, long, a mistake">
        <HStack gap="3" flexWrap="wrap" align="start">
          <Field aria-label="Empty" placeholder="find …" maxW="100%" />
          <Field aria-label="Filled" defaultValue="AV-071" maxW="100%" />
          <Field aria-label="Long" defaultValue={longName} maxW="100%" />
          <Box>
            <Entry
              label="A number"
              value={text}
              set={setText}
              check={(v) => (/^\d*$/.test(v) ? undefined : "A bound is a number, as 12.5.")}
            />
          </Box>
        </HStack>
      </State>
      <State name="choices: short, long">
        <HStack gap="3" flexWrap="wrap">
          <Choice aria-label="Short">
            <option>major</option>
          </Choice>
          <Choice aria-label="Long">
            <option>{longName}</option>
          </Choice>
        </HStack>
      </State>
      <State name="writing">
        <Writing aria-label="Comment" rows={2} placeholder="A question, an answer, an assumption" />
      </State>
    </Section>
  );
}

const nothing = () => undefined;

function States() {
  return (
    <Section title="States">
      <State name="loading">
        <Waiting>Looking through all rows …</Waiting>
        <Shown query={{ data: undefined, error: null }}>{nothing}</Shown>
      </State>
      <State name="empty">
        <Empty>Nothing has arrived yet. Take in the first file.</Empty>
      </State>
      {Object.entries(refusals).map(([name, error]) => (
        <State key={name} name={`error: ${name}`}>
          <Trouble error={error} />
        </State>
      ))}
      <State name="somebody else saved">
        <Outdated error={refusals["no answer"]} follow={nothing} />
        <Kept
          draft={
            {
              source: "",
              from: 3,
              found: 1_700_000_000_000,
              elsewhere: true,
              change: nothing,
              follow: nothing,
            } as never
          }
        />
      </State>
      <State name="progress: running, waiting, with a stop">
        <Progress job={job({})} />
        <Progress job={job({ state: "queued", bytes_done: 0 })} />
        <Progress job={job({ dataset: longName })} onStop={nothing} />
      </State>
      <State name="more of a list">
        <More query={{ hasNextPage: true, fetchNextPage: nothing, isFetchingNextPage: false }} shown={200} />
      </State>
      <State name="the path">
        <PathBar id={1} dataset="gauges" />
      </State>
    </Section>
  );
}

const values = [
  "AV-071",
  "",
  " before and after ",
  "in  the middle",
  "\u200bunseen",
  "line\nend",
  "tab\there",
  longName,
];

function Values() {
  return (
    <Section title="Values and words">
      <State name="values as they stand in the file">
        {values.map((v) => (
          <Box key={v} overflow="hidden" textOverflow="ellipsis">
            <Value text={v} />
          </Box>
        ))}
        <Value text="found in the middle of it" found="middle" />
      </State>
      <State name="a long name, cut in the middle">{middle(longName, 30)}</State>
      <State name="a term, explained with an example and without">
        <HStack gap="4">
          <Term of="score" example="of 100 cells of flow, 97.30 have nothing wrong with them." />
          <Term of="median" bare />
        </HStack>
      </State>
      <State name="severities">
        <HStack gap="3">
          <Severity of="major" />
          <Severity of="minor" />
          <Severity of="note" />
        </HStack>
      </State>
      <State name="verdicts: passed, fell short, none, not audited, withdrawn">
        <Verdict table={{ score: 98.2, passed: true }} />
        <Verdict table={{ score: 61.7, passed: false }} />
        <Verdict table={{ score: null, passed: null, audit_id: 3 }} />
        <Verdict table={{ score: null, passed: null }} />
        <Verdict table={{ score: null, passed: null, withdrawn_at: "2026-01-01T00:00:00Z" }} />
      </State>
    </Section>
  );
}

function Grids() {
  const [by, setBy] = useState<{ sort?: string; falling?: boolean }>({});
  return (
    <Section title="Grids">
      <State name="sorted, long names">
        <Grid label="Sorted">
          <thead>
            <tr>
              <SortHead name="column" by={by.sort} falling={by.falling} sort={setBy}>
                column
              </SortHead>
              <Th {...right}>rows</Th>
            </tr>
          </thead>
          <tbody>
            <tr>
              <Td overflowWrap="anywhere">{longName}</Td>
              <Td {...right}>5,000,000</Td>
            </tr>
          </tbody>
        </Grid>
      </State>
      <State name="600 columns">
        <Grid label="600 columns" max="160px">
          <thead>
            <tr>
              {wide.map((name) => (
                <Th key={name}>{name}</Th>
              ))}
            </tr>
          </thead>
          <tbody>
            <tr>
              {wide.map((name, i) => (
                <Td key={name} {...right}>
                  {i}
                </Td>
              ))}
            </tr>
          </tbody>
        </Grid>
      </State>
    </Section>
  );
}

const wide = Array.from({ length: 600 }, (_, i) => `channel_${i}`);

function Meshes() {
  return (
    <Section title="The mesh">
      {Object.entries(meshes).map(([name, mesh]) => (
        <State key={name} name={name}>
          <Mesh mesh={mesh} rows={144} name={`${name}: a column`} />
        </State>
      ))}
      <State name="under a long name">
        <chakra.span overflowWrap="anywhere">{longName}</chakra.span>
        <Mesh mesh={meshes["all kinds"]} rows={144} name={longName} />
      </State>
    </Section>
  );
}

const steps = (shift: number) =>
  [2, 9, 14, 6, 1].map((h, i) => ({ from: i + shift, to: i + 1 + shift, height: h / 32 }));

function Pictures() {
  return (
    <Section title="Pictures">
      <State name="small: numbers, dates, values, nothing">
        <HStack gap="4" flexWrap="wrap">
          <SmallPicture c={numbers} />
          <SmallPicture c={dates} />
          <SmallPicture c={column("river")} />
          <SmallPicture c={column("empty", { frequent: [] })} />
        </HStack>
      </State>
      <State name="gaps">
        <Gaps c={column("river with gaps")} rows={144} />
      </State>
      <State name="large: numbers">
        <LargePicture c={numbers} />
      </State>
      <State name="large: dates">
        <LargePicture c={dates} />
      </State>
      <State name="large: values, one with a long name">
        <LargePicture c={column(longName)} />
      </State>
      <State name="two over each other">
        <Densities
          one={steps(0)}
          other={steps(1.5)}
          kind="numbers"
          name="flow"
          file="flow"
          called={["now", longName]}
        />
      </State>
      <State name="points with their line">
        <PointsPicture
          t={{ dataset: "gauges", file_name: "gauges.csv" } as never}
          p={{
            x: "depth",
            y: longName,
            rows: 40,
            points: Array.from({ length: 40 }, (_, i) => ({ row: i + 1, x: i / 4, y: 3 + i / 8 + (i % 5) })),
            slope: 0.5,
            intercept: 4.9,
            correlation: 0.7,
          }}
          open={nothing}
        />
      </State>
    </Section>
  );
}

function Editors() {
  const [good, setGood] = useState(goodText);
  const [wrong, setWrong] = useState(wrongText);
  return (
    <Section title="The editor">
      <State name="a good text">
        <Editor
          label="A good rulebook"
          kind="rulebooks"
          height="110px"
          value={good}
          onChange={setGood}
          error={null}
        />
      </State>
      <State name="a text with a mistake">
        <Editor
          label="A wrong rulebook"
          kind="rulebooks"
          height="110px"
          value={wrong}
          onChange={setWrong}
          error={null}
        />
      </State>
    </Section>
  );
}
