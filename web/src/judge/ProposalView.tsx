import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useId, useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { madeFrom, useDraft } from "../client/drafts";
import { datasetTables, proposal, refresh, rulebook } from "../client/queries";
import { Field, Press } from "../shared/controls";
import { Section, Title } from "../shared/parts";
import { Shown, Trouble } from "../shared/states";
import { plural } from "../shared/words";
import { type Eased, Easing, isEasing, saidSaved } from "./Easing";
import { type Choice, choiceOf, ProposalLines, sections } from "./ProposalLines";

/** What could be declared of a dataset, line by line, each with its evidence, to be taken or left. */
export function ProposalView() {
  const { name } = useParams({ from: "/datasets/$name/proposal" });
  const proposed = useQuery(proposal(name));
  return (
    <>
      <Title>
        <Link to="/datasets/$name" params={{ name }}>
          {name}
        </Link>{" "}
        / what could hold
      </Title>
      <Shown query={proposed} waiting="The newest deliveries are being looked through …">
        {(p) => <Proposal name={name} p={p} />}
      </Shown>
    </>
  );
}

function Proposal({ name, p }: { name: string; p: Schemas["Proposed"] }) {
  const book = useQuery(rulebook(name));
  const kept = useDraft(`proposal of ${name}`, undefined);
  const choice = choiceOf(kept.source);
  const choose = (next: Choice) => kept.change(JSON.stringify(next));
  const mark = choice.pass_mark ?? 100;
  const [written, setWritten] = useState(String(mark));
  const wrongMark = !(written.trim() !== "" && Number(written) >= 0 && Number(written) <= 100);
  return (
    <>
      <Text maxW="900px" mb="2">
        What holds in the newest deliveries, or nearly holds, is ticked: what breaks it is then found, and
        nothing is set right by it. What merely could be is not ticked. Take a tick away where a thing is
        meant otherwise; everything can be changed later.
      </Text>
      {book.data && (
        <Text role="alert" mb="2" borderLeftWidth="4px" borderColor="validity" pl="2">
          Version {book.data.version} of the rulebook is in force. Saving what stands here replaces all of it
          by a new version; <RulebookLink name={name}>change the one in force</RulebookLink> where that is not
          meant.
        </Text>
      )}
      {sections(p.lines).map((s) => (
        <Section key={s.name} title={s.title} aside={<Taken lines={s.lines} choice={choice} />}>
          <ProposalLines lines={s.lines} choice={choice} change={choose} />
        </Section>
      ))}
      <Section title="When a delivery is good enough">
        <PassMark
          value={written}
          wrong={wrongMark}
          change={(v) => {
            setWritten(v);
            const n = Number(v);
            if (v.trim() !== "" && n >= 0 && n <= 100) {
              choose({ ...choice, pass_mark: n });
            }
          }}
        />
      </Section>
      <Save name={name} choice={choice} book={book.data} wrong={wrongMark} done={kept.change} />
    </>
  );
}

function RulebookLink({ name, children }: { name: string; children: string }) {
  return (
    <Link to="/datasets/$name/rulebook" params={{ name }} search={{}}>
      {children}
    </Link>
  );
}

function Taken({ lines, choice }: { lines: Schemas["Line"][]; choice: Choice }) {
  const left = choice.left?.filter((k) => lines.some((l) => l.section === k.section)).length ?? 0;
  const taken = choice.taken?.filter((k) => lines.some((l) => l.section === k.section)).length ?? 0;
  const says = [left > 0 && `${left} left out`, taken > 0 && `${taken} taken beside what was ticked`];
  return (
    <Text fontSize="sm" color="quiet">
      {says.filter(Boolean).join(", ") || plural(lines.length, "line", "lines")}
    </Text>
  );
}

function PassMark(props: { value: string; wrong: boolean; change: (v: string) => void }) {
  const id = useId();
  return (
    <Box>
      <label htmlFor={id}>The least score of a table that passes, of 100:</label>{" "}
      <Field
        id={id}
        inputMode="decimal"
        w="90px"
        aria-invalid={props.wrong}
        value={props.value}
        onChange={(e) => props.change(e.target.value)}
      />
      {props.wrong && (
        <Text role="alert" fontSize="sm" color="validity">
          A score is a number from 0 to 100.
        </Text>
      )}
    </Box>
  );
}

/** Saves what was chosen as the rulebook and has the newest delivery judged by it; or goes on with it as text and forms. */
function Save(props: {
  name: string;
  choice: Choice;
  book?: Schemas["Declaration"];
  wrong: boolean;
  done: (draft: undefined) => void;
}) {
  const { name, choice, book } = props;
  const client = useQueryClient();
  const navigate = useNavigate();
  const tables = useQuery(datasetTables(name));
  const newest = tables.data?.items.find((t) => t.origin === "delivery" && !t.withdrawn_at);
  const text = useDraft(`rulebook ${name}`, book);
  const chosen = () =>
    take(
      api.POST("/datasets/{name}/proposal", {
        params: { path: { name }, query: { last: 3 } },
        body: choice,
      }),
    );
  const save = useMutation({
    mutationFn: async (eased: Eased | undefined) => {
      const { source } = await chosen();
      const saved = await take(
        api.POST("/rulebooks", { params: madeFrom(book?.version ?? 0), body: { source, ...eased } }),
      );
      if (saved.waits) {
        saidSaved(saved);
      } else if (newest) {
        await take(api.POST("/tables/{id}/audits", { params: { path: { id: newest.id } } }));
      }
    },
    onSuccess: async () => {
      props.done(undefined);
      await refresh(client, "rulebook");
      if (newest) {
        navigate({ to: "/tables/$id", params: { id: String(newest.id) }, search: { view: "findings" } });
      } else {
        navigate({ to: "/datasets/$name", params: { name } });
      }
    },
  });
  const goOn = useMutation({
    mutationFn: chosen,
    onSuccess: (p) => {
      text.change(p.source);
      navigate({ to: "/datasets/$name/rulebook", params: { name }, search: { view: "forms" } });
    },
  });
  return (
    <>
      <HStack gap="3" mt="4" flexWrap="wrap">
        <Press
          needs="work"
          onClick={() => save.mutate(undefined)}
          loading={save.isPending}
          disabled={props.wrong}
        >
          Save it, and judge the newest delivery
        </Press>
        <Press needs="work" plain onClick={() => goOn.mutate()} loading={goOn.isPending}>
          Change it in forms first
        </Press>
        {(choice.left || choice.taken || choice.pass_mark !== undefined) && (
          <Press plain onClick={() => props.done(undefined)}>
            Back to how it was ticked
          </Press>
        )}
      </HStack>
      <Easing error={save.error} busy={save.isPending} save={save.mutate} leave={save.reset} />
      <Trouble error={(isEasing(save.error) ? undefined : save.error) ?? goOn.error} />
      <chakra.p fontSize="sm" color="quiet" mt="1">
        Your ticks are kept in this browser until it is saved.
      </chakra.p>
    </>
  );
}
