import { HStack } from "@chakra-ui/react";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { datasets, issues, me, people } from "../client/queries";
import { Choice, Press } from "../shared/controls";
import { Entry } from "../shared/Entry";
import { More } from "../shared/grid";
import { Title } from "../shared/parts";
import { Shown } from "../shared/states";
import { IssueGrid } from "./IssueGrid";
import { type IssueSearch, issueOrders, issueStates, severities } from "./issueSearch";
import { SeveralIssues } from "./SeveralIssues";

/** All issues, chosen and ordered; the address keeps which, so that it can be sent or kept as a bookmark. */
export function IssuesView() {
  const search = useSearch({ from: "/issues" });
  const navigate = useNavigate();
  const state = search.state ?? "unsettled";
  const known = useQuery(datasets);
  const everybody = useQuery(people);
  const signedIn = useQuery(me).data;
  const who = signedIn?.name;
  const may = signedIn?.rights.includes("discuss");
  const [chosen, setChosen] = useState(new Set<number>());
  const found = useInfiniteQuery(
    issues({
      dataset: search.dataset,
      state: state === "all" ? undefined : state,
      assignee: search.assignee,
      severity: search.severity,
      text: search.text,
      order: search.order,
      owner: search.owner,
      overdue: search.overdue,
    }),
  );
  const go = (change: Partial<IssueSearch>) => navigate({ to: "/issues", search: { ...search, ...change } });
  const restricted = Boolean(
    search.dataset ||
      search.assignee ||
      search.severity ||
      search.text ||
      search.state ||
      search.owner ||
      search.overdue,
  );
  return (
    <>
      <Title>Issues</Title>
      <HStack gap="2" mb="2" flexWrap="wrap">
        <Choice
          aria-label="State"
          value={state}
          onChange={(e) => go({ state: e.target.value as IssueSearch["state"] })}
        >
          {issueStates.map((s) => (
            <option key={s} value={s}>
              {s === "unsettled" ? "open or asked" : s}
            </option>
          ))}
        </Choice>
        <Choice
          aria-label="Severity"
          value={search.severity ?? ""}
          onChange={(e) => go({ severity: (e.target.value || undefined) as IssueSearch["severity"] })}
        >
          <option value="">any severity</option>
          {severities.map((s) => (
            <option key={s}>{s}</option>
          ))}
        </Choice>
        <Choice
          aria-label="Dataset"
          value={search.dataset ?? ""}
          onChange={(e) => go({ dataset: e.target.value || undefined })}
        >
          <option value="">all datasets</option>
          {known.data?.items.map((d) => (
            <option key={d.id}>{d.name}</option>
          ))}
        </Choice>
        <Choice
          aria-label="Assigned to"
          value={search.assignee ?? ""}
          onChange={(e) => go({ assignee: e.target.value || undefined })}
        >
          <option value="">anybody's</option>
          {who && <option value={who}>mine</option>}
          <option value="-">nobody's</option>
          {everybody.data
            ?.filter((p) => p.name !== who)
            .map((p) => (
              <option key={p.id}>{p.name}</option>
            ))}
        </Choice>
        <Entry
          w="160px"
          label="Text in the issue, its rule or its dataset"
          placeholder="find …"
          value={search.text ?? ""}
          set={(v) => go({ text: v || undefined })}
        />
        <Choice
          aria-label="Whom they wait for"
          value={search.overdue ? "overdue" : (search.owner ?? "")}
          onChange={(e) =>
            go({
              overdue: e.target.value === "overdue" || undefined,
              owner: e.target.value === "overdue" ? undefined : e.target.value || undefined,
            })
          }
        >
          <option value="">waiting for anybody</option>
          {who && <option value={who}>waiting for me</option>}
          {search.owner && search.owner !== who && (
            <option value={search.owner}>waiting for {search.owner}</option>
          )}
          <option value="overdue">overdue</option>
        </Choice>
        <Choice
          aria-label="What comes first"
          value={search.order ?? "newest"}
          onChange={(e) =>
            go({ order: e.target.value === "newest" ? undefined : (e.target.value as IssueSearch["order"]) })
          }
        >
          {Object.entries(issueOrders).map(([order, called]) => (
            <option key={order} value={order}>
              {called}
            </option>
          ))}
        </Choice>
        {restricted && (
          <Press
            plain
            size="xs"
            h="6"
            onClick={() => navigate({ to: "/issues", search: { order: search.order } })}
          >
            All that are open or asked
          </Press>
        )}
      </HStack>
      {chosen.size > 0 && (
        <SeveralIssues ids={[...chosen].sort((a, b) => a - b)} clear={() => setChosen(new Set())} />
      )}
      <Shown query={found}>
        {(page) => (
          <IssueGrid
            issues={page.items}
            chosen={chosen}
            choose={
              may
                ? (id, on) => setChosen(new Set(on ? [...chosen, id] : [...chosen].filter((x) => x !== id)))
                : undefined
            }
            empty="No issue is so. Choose otherwise above, or take in a delivery."
          />
        )}
      </Shown>
      <More query={found} shown={found.data?.items.length ?? 0} />
    </>
  );
}
