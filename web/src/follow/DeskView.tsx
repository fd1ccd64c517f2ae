import { Text } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { api, type Schemas, take } from "../client/client";
import { datasets, desk, me } from "../client/queries";
import { DatasetGrid } from "../deliver/DatasetGrid";
import { FirstSteps, TakeIn } from "../deliver/FirstSteps";
import { Section, Title } from "../shared/parts";
import { Progress, Shown } from "../shared/states";
import { bytes, count, plural } from "../shared/words";
import { DeskAsked } from "./DeskAsked";
import { DeskLate } from "./DeskLate";
import { DeskTables, FailedJobs } from "./DeskTables";
import { IssueGrid } from "./IssueGrid";

const issuesShown = 12;

/** What needs the person who sits here: what is ready for a signature, what failed, what is theirs, then all the rest. */
export function DeskView() {
  const today = useQuery(desk);
  const all = useQuery(datasets);
  if (all.data?.items.length === 0 && today.data && today.data.failed.length === 0) {
    return (
      <>
        <Title>Begin here</Title>
        <FirstSteps />
      </>
    );
  }
  return (
    <>
      <Shown query={today}>{(d) => <Today d={d} />}</Shown>
      <Section title="Datasets" aside={<TakeIn />}>
        <Shown query={all}>
          {(page) => (page.items.length === 0 ? <FirstSteps /> : <DatasetGrid datasets={page.items} />)}
        </Shown>
      </Section>
    </>
  );
}

/** Everything in one sentence. */
function summary(d: Schemas["Desk"]) {
  const parts = [
    d.mine_count > 0 && `${plural(d.mine_count, "issue is", "issues are")} assigned to you`,
    d.ready.length > 0 && `${plural(d.ready.length, "table is", "tables are")} ready for your signature`,
    d.unsettled > 0 &&
      `${plural(d.unsettled, "issue is", "issues are")} open${d.major > 0 ? `, ${count(d.major)} of them major, which stops a table` : ""}`,
    d.overdue > 0 && `${count(d.overdue)} of them ${d.overdue === 1 ? "is" : "are"} overdue`,
    d.asked > 0 && `${count(d.asked)} of them ${d.asked === 1 ? "waits" : "wait"} for the owner of the data`,
  ].filter((p): p is string => Boolean(p));
  return parts.length === 0 ? "Nothing is waiting for you." : `${parts.join("; ")}.`;
}

function Today({ d }: { d: Schemas["Desk"] }) {
  const who = useQuery(me).data;
  const stop = useMutation({
    mutationFn: (id: number) => take(api.POST("/jobs/{id}/stop", { params: { path: { id } } })),
  });
  const others = d.issues.filter((i) => i.assignee !== who?.name);
  return (
    <>
      <Title>What needs you</Title>
      <Text>{summary(d)}</Text>
      {d.disk && (
        <Text role="alert" borderLeftWidth="4px" borderColor="validity" pl="2" my="1">
          The disk of the service is nearly full: {bytes(d.disk.free)} of {bytes(d.disk.total)} are free. Let
          go of deliveries that are no longer needed, or make room.
        </Text>
      )}
      <FailedJobs jobs={d.failed} />
      <DeskLate late={d.late} />
      <DeskAsked d={d} />
      <DeskTables
        title="Ready for your signature"
        tables={d.ready}
        view="certificate"
        says={(t) => `${t.dataset}, ${t.file_name}, passes and nothing stands in the way of its certificate`}
      />
      {d.running.length > 0 && (
        <Section title="What runs">
          {d.running.map((j) => (
            <Progress
              key={j.id}
              job={j}
              onStop={who?.rights.includes("work") ? () => stop.mutate(j.id) : undefined}
            />
          ))}
        </Section>
      )}
      {d.mine_count > 0 && (
        <Section
          title="Yours, the gravest first"
          aside={
            <Link to="/issues" search={{ assignee: who?.name, order: "gravest" }}>
              All {count(d.mine_count)} of yours
            </Link>
          }
        >
          <IssueGrid issues={d.mine.slice(0, issuesShown)} empty="" />
        </Section>
      )}
      <Section
        title="Open issues, the gravest first"
        aside={
          <Link to="/issues" search={{ order: "gravest" }}>
            All issues
          </Link>
        }
      >
        <IssueGrid issues={others.slice(0, issuesShown)} empty="No other issue is open." />
        {d.unsettled - d.mine_count > issuesShown && (
          <Text fontSize="sm" color="quiet" pt="1">
            {plural(d.unsettled - d.mine_count - issuesShown, "more issue stands", "more issues stand")} in{" "}
            <Link to="/issues" search={{ order: "gravest" }}>
              the list of all issues
            </Link>
            .
          </Text>
        )}
      </Section>
      <DeskTables
        title="What fell short"
        tables={d.short}
        view="findings"
        says={(t) => `${t.dataset}, ${t.file_name}, fell short`}
      />
      <DeskTables
        title="Waiting for a certificate"
        tables={d.waiting}
        view="certificate"
        says={(t) => `${t.dataset}, ${t.file_name}, passes and waits for its certificate`}
      />
    </>
  );
}
