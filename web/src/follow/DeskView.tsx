import { Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { datasets, desk } from "../client/queries";
import { DatasetGrid } from "../deliver/DatasetGrid";
import { FirstSteps, TakeIn } from "../deliver/FirstSteps";
import { Progress, Section, Shown, TableLink, Title } from "../shared/parts";
import { bytes, count, plural, when } from "../shared/words";
import { IssueGrid } from "./IssueGrid";

const issuesShown = 12;

/** What needs me: what holds a table up first, then where every dataset stands. */
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
      <Shown query={today}>
        {(d) => {
          const stops = d.issues.filter((i) => i.severity === "major").length;
          return (
            <>
              <Title>What needs you</Title>
              <Text>
                {d.issues.length === 0 && d.failed.length === 0 && d.waiting.length === 0
                  ? "Nothing is waiting for you."
                  : `${plural(d.issues.length, "issue is", "issues are")} open; ${count(stops)} of them major, which stops a table.`}
              </Text>
              {d.disk && (
                <Text role="alert" borderLeftWidth="4px" borderColor="validity" pl="2" my="1">
                  The disk of the service is nearly full: {bytes(d.disk.free)} of {bytes(d.disk.total)} are
                  free. Let go of deliveries that are no longer needed, or make room.
                </Text>
              )}
              {d.running.map((j) => (
                <Progress key={j.id} job={j} />
              ))}
              {d.failed.map((j) => (
                <Text key={j.id} borderLeftWidth="4px" borderColor="validity" pl="2" my="1">
                  The {j.kind} of{" "}
                  {j.table_id ? <TableLink id={j.table_id}>{j.dataset}</TableLink> : j.dataset} failed:{" "}
                  {j.error}
                </Text>
              ))}
              {d.waiting.map((t) => (
                <Text key={t.id} borderLeftWidth="4px" borderColor="accent" pl="2" my="1">
                  <TableLink id={t.id}>{t.dataset}</TableLink>, merged {when(t.created_at)}, passes and waits
                  for its certificate.
                </Text>
              ))}
              <Section title="Open issues, the gravest first" aside={<Link to="/issues">All issues</Link>}>
                <IssueGrid issues={d.issues.slice(0, issuesShown)} empty="No issue is open." />
                {d.issues.length > issuesShown && (
                  <Text fontSize="sm" color="quiet" pt="1">
                    {plural(d.issues.length - issuesShown, "more issue stands", "more issues stand")} in{" "}
                    <Link to="/issues">the list of all issues</Link>.
                  </Text>
                )}
              </Section>
            </>
          );
        }}
      </Shown>
      <Section title="Datasets" aside={<TakeIn />}>
        <Shown query={all}>
          {(page) => (page.items.length === 0 ? <FirstSteps /> : <DatasetGrid datasets={page.items} />)}
        </Shown>
      </Section>
    </>
  );
}
