import {
  infiniteQueryOptions,
  keepPreviousData,
  type QueryClient,
  queryOptions,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, type Dimension, type Schemas, take } from "./client";

// One place for every question the console asks, so that the same question has the same name.

type Page<T> = { items: T[]; next?: string };
type Asked = { after?: string; limit: number };

/** A list to its end, however many pages it has. */
async function whole<T>(ask: (query: Asked) => Promise<Page<T>>): Promise<{ items: T[] }> {
  const items: T[] = [];
  for (let after: string | undefined; ; ) {
    const page = await ask({ after, limit: 500 });
    items.push(...page.items);
    after = page.next;
    if (!after) {
      return { items };
    }
  }
}

/** A list that may be long: its first page, and the next ones once they are asked for. */
function pages<T>(
  queryKey: readonly unknown[],
  ask: (query: Asked, signal: AbortSignal) => Promise<Page<T>>,
) {
  return infiniteQueryOptions({
    queryKey,
    queryFn: ({ signal, pageParam }) => ask({ after: pageParam, limit: 200 }, signal),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page: Page<T>) => page.next || undefined,
    select: (all) => ({ items: all.pages.flatMap((page) => page.items) }),
  });
}

export const me = queryOptions({
  queryKey: ["me"],
  queryFn: ({ signal }) => take(api.GET("/me", { signal })),
  retry: false,
});
export const desk = queryOptions({
  queryKey: ["desk"],
  queryFn: ({ signal }) => take(api.GET("/desk", { signal })),
  refetchInterval: 3000,
});
/** What happened that the caller wants to be told of. */
export const notices = (asked: { kind?: Schemas["Notice"]["kind"]; dataset?: string }) =>
  pages(["notices", asked], (query, signal) =>
    take(api.GET("/notices", { signal, params: { query: { ...query, ...asked } } })),
  );
/** How much of it is new to them; told anew as it happens (tell/following.ts). */
export const unseen = queryOptions({
  queryKey: ["unseen"],
  queryFn: ({ signal }) => take(api.POST("/notices/seen", { signal, body: { last: 0 } })),
});
export const toldOf = queryOptions({
  queryKey: ["told"],
  queryFn: ({ signal }) => take(api.GET("/notices/choices", { signal })),
});
export const receivers = queryOptions({
  queryKey: ["receivers"],
  queryFn: ({ signal }) => take(api.GET("/receivers", { signal })),
});
/** By what people come in beside tokens. */
export const waysIn = queryOptions({
  queryKey: ["ways-in"],
  queryFn: ({ signal }) => take(api.GET("/ways-in", { signal })),
  staleTime: Number.POSITIVE_INFINITY,
});
/** Databases from which deliveries are taken, what they are, and what is in one. */
export const databases = queryOptions({
  queryKey: ["databases"],
  queryFn: ({ signal }) => take(api.GET("/databases", { signal })),
});
export const credentials = queryOptions({
  queryKey: ["credentials"],
  queryFn: ({ signal }) => take(api.GET("/credentials", { signal })),
});
export const engines = queryOptions({
  queryKey: ["engines"],
  queryFn: ({ signal }) => take(api.GET("/engines", { signal })),
  staleTime: Number.POSITIVE_INFINITY,
});
export const databaseTables = (name: string) =>
  queryOptions({
    queryKey: ["databases", name, "tables"],
    queryFn: ({ signal }) =>
      take(api.GET("/databases/{name}/tables", { signal, params: { path: { name } } })),
    enabled: name !== "",
    retry: false,
  });
export const sendings = (state: Schemas["Sending"]["state"] | undefined) =>
  pages(["sendings", state], (query, signal) =>
    take(api.GET("/sendings", { signal, params: { query: { ...query, state } } })),
  );
/** Made-up datasets to look around in. */
export const samples = queryOptions({
  queryKey: ["samples"],
  queryFn: ({ signal }) => take(api.GET("/samples", { signal })),
  staleTime: Number.POSITIVE_INFINITY,
});
export const people = queryOptions({
  queryKey: ["people"],
  queryFn: ({ signal }) => take(api.GET("/people", { signal })),
});
/** With which datasets somebody may do what. */
export const rightsOf = (name: string) =>
  queryOptions({
    queryKey: ["rights", name],
    queryFn: ({ signal }) => take(api.GET("/people/{name}/rights", { signal, params: { path: { name } } })),
  });
/** What has a text in its name. */
export const search = (text: string) =>
  queryOptions({
    queryKey: ["search", text],
    queryFn: ({ signal }) => take(api.GET("/search", { signal, params: { query: { text } } })),
    placeholderData: keepPreviousData,
    gcTime: 30_000,
  });
export const tokens = pages(["tokens"], (query, signal) =>
  take(api.GET("/tokens", { signal, params: { query } })),
);
export const datasets = queryOptions({
  queryKey: ["datasets"],
  queryFn: ({ signal }) => whole((query) => take(api.GET("/datasets", { signal, params: { query } }))),
});
export const dataset = (name: string) =>
  queryOptions({
    queryKey: ["dataset", name],
    queryFn: ({ signal }) => take(api.GET("/datasets/{name}", { signal, params: { path: { name } } })),
  });
export const datasetTables = (name: string) =>
  queryOptions({
    queryKey: ["dataset", name, "tables"],
    queryFn: ({ signal }) =>
      whole((query) =>
        take(api.GET("/datasets/{name}/tables", { signal, params: { path: { name }, query } })),
      ),
  });
export const datasetAudits = (name: string) =>
  queryOptions({
    queryKey: ["dataset", name, "audits"],
    queryFn: ({ signal }) =>
      whole((query) =>
        take(api.GET("/datasets/{name}/audits", { signal, params: { path: { name }, query } })),
      ),
  });
export const datasetDecided = (name: string) =>
  pages(["dataset", name, "decided"], (query, signal) =>
    take(api.GET("/datasets/{name}/decided", { signal, params: { path: { name }, query } })),
  );
export const datasetRecord = (name: string) =>
  queryOptions({
    queryKey: ["dataset", name, "record"],
    queryFn: ({ signal }) => take(api.GET("/datasets/{name}/record", { signal, params: { path: { name } } })),
  });
export const datasetCourse = (name: string, origin: "delivery" | "cleaned" | "merged") =>
  queryOptions({
    queryKey: ["dataset", name, "course", origin],
    queryFn: ({ signal }) =>
      take(api.GET("/datasets/{name}/course", { signal, params: { path: { name }, query: { origin } } })),
  });
export const table = (id: number) =>
  queryOptions({
    queryKey: ["table", id],
    queryFn: ({ signal }) => take(api.GET("/tables/{id}", { signal, params: { path: { id } } })),
  });
export const tablePath = (id: number) =>
  queryOptions({
    queryKey: ["table", id, "path"],
    queryFn: ({ signal }) => take(api.GET("/tables/{id}/path", { signal, params: { path: { id } } })),
  });
export const tableInputs = (id: number) =>
  queryOptions({
    queryKey: ["table", id, "inputs"],
    queryFn: ({ signal }) => take(api.GET("/tables/{id}/inputs", { signal, params: { path: { id } } })),
  });
export const certificateDraft = (id: number) =>
  queryOptions({
    queryKey: ["table", id, "certificate draft"],
    queryFn: ({ signal }) =>
      take(api.GET("/tables/{id}/certificate-draft", { signal, params: { path: { id } } })),
    retry: false,
  });
export const tableJobs = (id: number) =>
  queryOptions({
    queryKey: ["table", id, "jobs"],
    queryFn: ({ signal }) => take(api.GET("/jobs", { signal, params: { query: { table: id, limit: 20 } } })),
  });
/** Whose changes are meant: those of a cleaned table, or of a preview by its job. */
export type ChangesOf = { table: number } | { job: number };

/** What a fix plan changed, or would change, page by page. */
export const changes = (of: ChangesOf, asked: { step?: number; column?: string; what?: "cells" | "rows" }) =>
  infiniteQueryOptions({
    queryKey: ["changes", of, asked],
    queryFn: ({ signal, pageParam }) => {
      const query = { ...asked, cursor: pageParam };
      return "table" in of
        ? take(api.GET("/tables/{id}/changes", { signal, params: { path: { id: of.table }, query } }))
        : take(api.GET("/jobs/{id}/changes", { signal, params: { path: { id: of.job }, query } }));
    },
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page: Schemas["ChangesPage"]) => page.next ?? undefined,
    select: (all) => ({
      items: all.pages.flatMap((page) => page.items),
      columns: all.pages[0]?.columns ?? [],
    }),
  });
export const fetches = (name: string) =>
  queryOptions({
    queryKey: ["dataset", name, "fetches"],
    queryFn: ({ signal }) =>
      take(api.GET("/datasets/{name}/fetches", { signal, params: { path: { name } } })),
    refetchInterval: 4000,
  });
export const reading = (id: number) =>
  queryOptions({
    queryKey: ["table", id, "reading"],
    queryFn: ({ signal }) => take(api.GET("/tables/{id}/reading", { signal, params: { path: { id } } })),
    staleTime: Number.POSITIVE_INFINITY,
  });
export type ReadingWish = Schemas["ReadingWish"];

/** A file that was sent, as it is read where somebody says so much of how. */
export const lookedAt = (id: number, reading: ReadingWish, dataset?: string) =>
  queryOptions({
    queryKey: ["arrival", id, reading, dataset],
    queryFn: ({ signal }) =>
      take(
        api.POST("/arrivals/{id}/reading", { signal, params: { path: { id } }, body: { reading, dataset } }),
      ),
    placeholderData: keepPreviousData,
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
export const proposal = (name: string) =>
  queryOptions({
    queryKey: ["dataset", name, "proposal"],
    queryFn: ({ signal }) =>
      take(api.GET("/datasets/{name}/proposal", { signal, params: { path: { name }, query: { last: 3 } } })),
    staleTime: 60_000,
    retry: false,
  });
export const correlations = (id: number) =>
  queryOptions({
    queryKey: ["table", id, "correlations"],
    queryFn: ({ signal }) => take(api.GET("/tables/{id}/correlations", { signal, params: { path: { id } } })),
  });
/** How many rows lack two columns at once. */
export const missingTogether = (id: number) =>
  queryOptions({
    queryKey: ["table", id, "missing together"],
    queryFn: ({ signal }) =>
      take(api.GET("/tables/{id}/missing-together", { signal, params: { path: { id } } })),
  });
/** Two columns of numbers against one another. */
export const points = (id: number, x: string, y: string) =>
  queryOptions({
    queryKey: ["table", id, "points", x, y],
    queryFn: ({ signal }) =>
      take(api.GET("/tables/{id}/points", { signal, params: { path: { id }, query: { x, y } } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
export const keys = (id: number) =>
  queryOptions({
    queryKey: ["table", id, "keys"],
    queryFn: ({ signal }) => take(api.GET("/tables/{id}/keys", { signal, params: { path: { id } } })),
  });
export const gaps = (id: number, column: string) =>
  queryOptions({
    queryKey: ["table", id, "gaps", column],
    queryFn: ({ signal }) =>
      take(api.GET("/tables/{id}/gaps", { signal, params: { path: { id }, query: { column } } })),
  });
export type TallyAsked = {
  by: string[];
  measure: string[];
  share?: "all" | "row" | "column" | "before";
  where?: string;
  order?: string;
  falling?: boolean;
};
/** The rows of a table by group. */
export const tally = (id: number, asked: TallyAsked) =>
  queryOptions({
    queryKey: ["table", id, "tally", asked],
    queryFn: ({ signal }) =>
      take(api.GET("/tables/{id}/tally", { signal, params: { path: { id }, query: asked } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
export const audit = (id: number) =>
  queryOptions({
    queryKey: ["audit", id],
    queryFn: ({ signal }) => take(api.GET("/audits/{id}", { signal, params: { path: { id } } })),
    staleTime: Number.POSITIVE_INFINITY, // an audit is immutable
  });
export type GroupKind = "equal" | "conflicting" | "near";

export const groups = (id: number, columns: string[], kind: GroupKind, offset: number) =>
  queryOptions({
    queryKey: ["table", id, "groups", columns, kind, offset],
    queryFn: ({ signal }) =>
      take(
        api.GET("/tables/{id}/groups", {
          signal,
          params: { path: { id }, query: { columns, kind, offset, limit: 20 } },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
export const codes = (id: number, column: string) =>
  queryOptions({
    queryKey: ["table", id, "codes", column],
    queryFn: ({ signal }) =>
      take(api.GET("/tables/{id}/codes", { signal, params: { path: { id }, query: { column } } })),
  });
/** What changed since another audit; since the one before where none is named. */
export const comparison = (id: number, since?: number) =>
  queryOptions({
    queryKey: ["audit", id, "comparison", since],
    queryFn: ({ signal }) =>
      take(api.GET("/audits/{id}/comparison", { signal, params: { path: { id }, query: { with: since } } })),
    retry: false,
  });
export const versions = (name: string) =>
  queryOptions({
    queryKey: ["rulebook", name, "versions"],
    queryFn: ({ signal }) =>
      whole((query) =>
        take(api.GET("/rulebooks", { signal, params: { query: { dataset: name, ...query } } })),
      ),
  });
export const differences = (dataset: string, from: number, to: number) =>
  queryOptions({
    queryKey: ["rulebook", dataset, "differences", from, to],
    queryFn: ({ signal }) =>
      take(
        api.GET("/rulebooks/{dataset}/comparison", {
          signal,
          params: { path: { dataset }, query: { from, to } },
        }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
  });
export type DeclarationKind = "rulebooks" | "fix-plans" | "merges";
type RowsAsked = {
  rule?: string;
  column?: string;
  dimension?: Dimension;
  where?: string;
  is?: string;
  find?: string;
  marked?: boolean;
  estimated?: string;
  sourced?: string;
  audit?: number;
  sort?: string;
  falling?: boolean;
};
/** A page of the rows that an address chooses. */
export const rows = (
  id: number,
  asked: RowsAsked,
  page: { offset?: number; after?: number; limit: number },
) =>
  queryOptions({
    queryKey: ["table", id, "rows", asked, page],
    queryFn: ({ signal }) =>
      take(api.GET("/tables/{id}/rows", { signal, params: { path: { id }, query: { ...asked, ...page } } })),
    retry: false,
    staleTime: 60_000,
  });
/** What is wrong with a declaration, and what can come in it; asked while it is being written. */
export const checkedText = (kind: DeclarationKind, source: string) =>
  queryOptions({
    queryKey: ["checked", kind, source],
    queryFn: ({ signal }) => take(api.POST(`/${kind}/check`, { signal, body: { source } })),
    enabled: source.trim() !== "",
    placeholderData: keepPreviousData,
    gcTime: 10_000,
    retry: false,
  });
/** What is wrong with a condition on the rows of a table, and what can come in it. */
export const checkedCondition = (id: number, condition: string) =>
  queryOptions({
    queryKey: ["checked", "condition", id, condition],
    queryFn: ({ signal }) =>
      take(
        api.POST("/tables/{id}/conditions/check", { signal, params: { path: { id } }, body: { condition } }),
      ),
    placeholderData: keepPreviousData,
    gcTime: 10_000,
    retry: false,
  });
export const outlined = (source: string) =>
  queryOptions({
    queryKey: ["outlined", source],
    queryFn: ({ signal }) => take(api.POST("/rulebooks/outline", { signal, body: { source } })),
    placeholderData: keepPreviousData,
    gcTime: 10_000,
    retry: false,
  });
/** Fix plans of all datasets, the newest version of each. */
export const allFixPlans = queryOptions({
  queryKey: ["fix-plans", "", "all"],
  queryFn: ({ signal }) => take(api.GET("/fix-plans", { signal, params: { query: { limit: 500 } } })),
  select: (page) => ({
    items: page.items.filter(
      (p, i) => page.items.findIndex((q) => q.name === p.name && q.dataset === p.dataset) === i,
    ),
  }),
});
/** How a row of a cleaned table came about, or one of its cells. */
export const trace = (id: number, row: number, column: string) =>
  queryOptions({
    queryKey: ["table", id, "trace", row, column],
    queryFn: ({ signal }) =>
      take(
        api.GET("/tables/{id}/rows/{row}/trace", {
          signal,
          params: { path: { id, row }, query: { column: column || undefined } },
        }),
      ),
    retry: false,
  });
/** Steps that would put right what was found in a table. */
export const proposedSteps = (id: number) =>
  queryOptions({
    queryKey: ["table", id, "steps"],
    queryFn: ({ signal }) => take(api.GET("/tables/{id}/steps", { signal, params: { path: { id } } })),
  });
/** Steps for rows that somebody points at, or for a cell of one of them. */
export const rowSteps = (id: number, rows: number[], column: string) =>
  queryOptions({
    queryKey: ["table", id, "row steps", rows, column],
    queryFn: ({ signal }) =>
      take(
        api.GET("/tables/{id}/row-steps", {
          signal,
          params: { path: { id }, query: { rows, column: column || undefined } },
        }),
      ),
  });
/** The text of a fix plan by its steps. */
export const planOutlined = (source: string) =>
  queryOptions({
    queryKey: ["plan outlined", source],
    queryFn: ({ signal }) => take(api.POST("/fix-plans/edit", { signal, body: { source, changes: [] } })),
    placeholderData: keepPreviousData,
    gcTime: 10_000,
    retry: false,
  });
/** The text of a merge by its joins. */
export const mergeOutlined = (source: string) =>
  queryOptions({
    queryKey: ["merge outlined", source],
    queryFn: ({ signal }) => take(api.POST("/merges/edit", { signal, body: { source, changes: [] } })),
    placeholderData: keepPreviousData,
    gcTime: 10_000,
    retry: false,
  });
type IssuesAsked = {
  dataset?: string;
  state?: Schemas["Issue"]["state"] | "unsettled";
  assignee?: string;
  severity?: Schemas["Issue"]["severity"];
  text?: string;
  owner?: string;
  overdue?: boolean;
  order?: "newest" | "changed" | "rows" | "gravest" | "due";
};
/** All issues of a dataset. */
export const issuesOf = (dataset: string) =>
  queryOptions({
    queryKey: ["issues", dataset, "all"],
    queryFn: ({ signal }) =>
      whole((query) => take(api.GET("/issues", { signal, params: { query: { dataset, ...query } } }))),
  });
export const issues = (asked: IssuesAsked) =>
  pages(["issues", asked], (query, signal) =>
    take(api.GET("/issues", { signal, params: { query: { ...asked, ...query } } })),
  );
export const issue = (id: number) =>
  queryOptions({
    queryKey: ["issue", id],
    queryFn: ({ signal }) => take(api.GET("/issues/{id}", { signal, params: { path: { id } } })),
  });
export const sheets = (open: boolean) =>
  pages(["sheets", open], (query, signal) =>
    take(api.GET("/sheets", { signal, params: { query: { ...query, open } } })),
  );
export const sheet = (id: number) =>
  queryOptions({
    queryKey: ["sheet", id],
    queryFn: ({ signal }) => take(api.GET("/sheets/{id}", { signal, params: { path: { id } } })),
  });
/** What the answers of a sheet would become. */
export const answersProposed = (id: number, asked: { dataset?: string; fix_plan?: string }) =>
  queryOptions({
    queryKey: ["sheet", id, "proposal", asked],
    queryFn: ({ signal }) =>
      take(api.GET("/sheets/{id}/proposal", { signal, params: { path: { id }, query: asked } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
/** By which decisions rulebooks became weaker, or are to become so. */
export const decisions = (dataset?: string) =>
  pages(["decisions", dataset], (query, signal) =>
    take(api.GET("/decisions", { signal, params: { query: { ...query, dataset } } })),
  );
/** The waivers in force for what an audit found. */
export const auditWaivers = (id: number) =>
  queryOptions({
    queryKey: ["audit", id, "waivers"],
    queryFn: ({ signal }) => take(api.GET("/audits/{id}/waivers", { signal, params: { path: { id } } })),
  });
export const rulebook = (name: string) =>
  queryOptions({
    queryKey: ["rulebook", name],
    queryFn: ({ signal }) =>
      take(api.GET("/rulebooks/{dataset}/{name}", { signal, params: { path: { dataset: name, name } } })),
    retry: false,
  });
export const fixPlans = (name: string) =>
  queryOptions({
    queryKey: ["fix-plans", name],
    queryFn: ({ signal }) =>
      whole((query) =>
        take(api.GET("/fix-plans", { signal, params: { query: { dataset: name, ...query } } })),
      ),
  });
export const merges = queryOptions({
  queryKey: ["merges"],
  queryFn: ({ signal }) => whole((query) => take(api.GET("/merges", { signal, params: { query } }))),
});
export const certificates = pages(["certificates"], (query, signal) =>
  take(api.GET("/certificates", { signal, params: { query } })),
);
export const certificate = (id: number) =>
  queryOptions({
    queryKey: ["certificate", id],
    queryFn: ({ signal }) => take(api.GET("/certificates/{id}", { signal, params: { path: { id } } })),
  });
export const history = pages(["history"], (query, signal) =>
  take(api.GET("/history", { signal, params: { query } })),
);

/** What can be changed: the answers that each of them shows up in are asked for anew. */
const shownIn = {
  delivery: ["dataset", "datasets", "table", "issues", "desk", "history"],
  rulebook: [
    "rulebook",
    "dataset",
    "datasets",
    "table",
    "audit",
    "issues",
    "issue",
    "desk",
    "history",
    "decisions",
  ],
  issue: ["issue", "issues", "table", "audit", "desk", "datasets", "dataset", "history", "sheet", "sheets"],
  plan: ["fix-plans", "merges", "dataset", "history"],
  table: ["table", "dataset", "datasets", "audit", "issues", "issue", "desk", "certificates", "history"],
  certificate: ["certificates", "certificate", "table", "dataset", "desk", "history"],
} as const;

/** Asks anew for the answers that a change shows up in, and for no others. */
export function refresh(client: QueryClient, ...what: (keyof typeof shownIn)[]) {
  const names = new Set<unknown>(what.flatMap((one) => shownIn[one]));
  return client.invalidateQueries({ predicate: (q) => names.has(q.queryKey[0]) });
}

/** What a job has found that compared methods of estimating. */
export const estimatesCompared = (job: number) =>
  queryOptions({
    queryKey: ["job", job, "estimates"],
    queryFn: ({ signal }) => take(api.GET("/jobs/{id}/estimates", { signal, params: { path: { id: job } } })),
    staleTime: Number.POSITIVE_INFINITY,
  });

/** Follows a job by its events until it ends; the answers are refreshed then. */
export function useJob(id: number | undefined): Schemas["Job"] | undefined {
  const client = useQueryClient();
  const [job, setJob] = useState<Schemas["Job"]>();
  const [connection, setConnection] = useState(0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: another connection is another run of the effect
  useEffect(() => {
    if (id === undefined) {
      setJob(undefined);
      return;
    }
    const events = new EventSource(`/api/v1/jobs/${id}/events`);
    events.addEventListener("job", (e) => setJob(JSON.parse(e.data)));
    let timer: ReturnType<typeof setTimeout> | undefined;
    events.onerror = () => {
      // The stream ends with the job; where it broke off before, it is taken up again.
      events.close();
      take(api.GET("/jobs/{id}", { params: { path: { id } } })).then(
        (now) => {
          setJob(now);
          if (now.ended_at) {
            refresh(client, "table");
          } else {
            timer = setTimeout(() => setConnection((n) => n + 1), 1000);
          }
        },
        () => {
          timer = setTimeout(() => setConnection((n) => n + 1), 2000);
        },
      );
    };
    return () => {
      events.close();
      clearTimeout(timer);
    };
  }, [id, client, connection]);
  return job?.id === id ? job : undefined;
}

/**
 * The newest audit job of a table, unless its audit is the one the table is known to
 * have: one that has not ended, that failed, or that ended since the table was asked for.
 */
export function usePendingAudit(t: Schemas["Table"]) {
  const jobs = useQuery(tableJobs(t.id));
  const newest = jobs.data?.items.find((j) => j.kind === "audit");
  return newest && (newest.audit_id == null || newest.audit_id !== t.audit_id) ? newest : undefined;
}

/** What a table was made of and what was made of it. */
export const lineage = (id: number) =>
  queryOptions({
    queryKey: ["table", id, "lineage"],
    queryFn: ({ signal }) => take(api.GET("/tables/{id}/lineage", { signal, params: { path: { id } } })),
  });

/** How the rows of a table differ from those of an earlier one, by a key; the key of the rulebook for none. */
export const revision = (id: number, before: number, key: string[] | undefined) =>
  queryOptions({
    queryKey: ["table", id, "revision", before, key],
    queryFn: ({ signal }) =>
      take(
        api.GET("/tables/{id}/revision", { signal, params: { path: { id }, query: { with: before, key } } }),
      ),
    retry: false,
  });

export type RevisedKind = "changed" | "came" | "went";

export const revisedRows = (
  id: number,
  before: number,
  key: string[] | undefined,
  kind: RevisedKind,
  offset: number,
) =>
  queryOptions({
    queryKey: ["table", id, "revision", before, key, kind, offset],
    queryFn: ({ signal }) =>
      take(
        api.GET("/tables/{id}/revision/rows", {
          signal,
          params: { path: { id }, query: { with: before, key, kind, offset } },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });

/** A question for totals of two tables that should agree. */
export type TotalsAsked = {
  with: number;
  by?: string[];
  by_there?: string[];
  of?: string;
  of_there?: string;
  where?: string;
  where_there?: string;
  factor?: string;
  tolerance?: string;
  percent?: string;
};

export const totals = (id: number, asked: TotalsAsked) =>
  queryOptions({
    queryKey: ["table", id, "totals", asked],
    queryFn: ({ signal }) =>
      take(api.GET("/tables/{id}/totals", { signal, params: { path: { id }, query: asked } })),
    placeholderData: keepPreviousData,
    retry: false,
  });

export const totalRows = (
  id: number,
  asked: TotalsAsked & { group: string[]; key: string[]; key_there?: string[] },
) =>
  queryOptions({
    queryKey: ["table", id, "total rows", asked],
    queryFn: ({ signal }) =>
      take(api.GET("/tables/{id}/totals/rows", { signal, params: { path: { id }, query: asked } })),
    retry: false,
  });

/** How many rows find a partner in a join of a merge, by its place from 1. */
export const meeting = (source: string, join: number) =>
  queryOptions({
    queryKey: ["meeting", source, join],
    queryFn: ({ signal }) => take(api.POST("/merges/meeting", { signal, body: { source, join } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
