import { createRootRoute, createRoute, createRouter, lazyRouteComponent } from "@tanstack/react-router";
import { DeskView } from "./views/DeskView";
import { Missing, Shell } from "./views/Shell";

// The address holds the whole state of a view, so that a link shows a colleague the same.

export type TableSearch = {
  view?: string;
  column?: string;
  rule?: string;
  dimension?: string;
  after?: number;
  /** Of the grid: how many rows come before the first one shown. */
  offset?: number;
  where?: string;
  is?: string;
  find?: string;
  sort?: string;
  falling?: boolean;
  hide?: string[];
  pin?: string[];
  /** Of the cross-tabulation. */
  down?: string;
  across?: string;
  measure?: string;
  /** Of the groups: the columns they share, and their kind. */
  by?: string[];
  kind?: "equal" | "conflicting" | "near";
};

const text = (v: unknown) => (typeof v === "string" && v !== "" ? v : undefined);

const texts = (v: unknown) =>
  Array.isArray(v) && v.length > 0 ? v.filter((x): x is string => typeof x === "string") : undefined;

const root = createRootRoute({ component: Shell, notFoundComponent: Missing });

const desk = createRoute({ getParentRoute: () => root, path: "/", component: DeskView });

const datasets = createRoute({
  getParentRoute: () => root,
  path: "/datasets",
  component: lazyRouteComponent(() => import("./views/DatasetViews"), "DatasetsView"),
});

const dataset = createRoute({
  getParentRoute: () => root,
  path: "/datasets/$name",
  component: lazyRouteComponent(() => import("./views/DatasetViews"), "DatasetView"),
});

const rulebook = createRoute({
  getParentRoute: () => root,
  path: "/datasets/$name/rulebook",
  validateSearch: (
    s: Record<string, unknown>,
  ): { view?: string; section?: string; item?: string; from?: number } => ({
    view: text(s.view),
    section: text(s.section),
    item: text(s.item),
    from: typeof s.from === "number" ? s.from : undefined,
  }),
  component: lazyRouteComponent(() => import("./views/RulebookView"), "RulebookView"),
});

const table = createRoute({
  getParentRoute: () => root,
  path: "/tables/$id",
  validateSearch: (s: Record<string, unknown>): TableSearch => ({
    view: text(s.view),
    column: text(s.column),
    rule: text(s.rule),
    dimension: text(s.dimension),
    after: typeof s.after === "number" ? s.after : undefined,
    offset: typeof s.offset === "number" && s.offset > 0 ? Math.floor(s.offset) : undefined,
    where: text(s.where),
    is: text(s.is),
    find: text(s.find),
    sort: text(s.sort),
    falling: s.falling === true ? true : undefined,
    hide: texts(s.hide),
    pin: texts(s.pin),
    down: text(s.down),
    across: text(s.across),
    measure: text(s.measure),
    by: texts(s.by),
    kind: s.kind === "equal" || s.kind === "near" || s.kind === "conflicting" ? s.kind : undefined,
  }),
  component: lazyRouteComponent(() => import("./views/TableView"), "TableView"),
});

const fix = createRoute({
  getParentRoute: () => root,
  path: "/tables/$id/fix",
  validateSearch: (s: Record<string, unknown>): { plan?: string; job?: number } => ({
    plan: text(s.plan),
    job: typeof s.job === "number" ? s.job : undefined,
  }),
  component: lazyRouteComponent(() => import("./views/FixView"), "FixView"),
});

const issues = createRoute({
  getParentRoute: () => root,
  path: "/issues",
  validateSearch: (s: Record<string, unknown>): { state?: string; dataset?: string } => ({
    state: text(s.state),
    dataset: text(s.dataset),
  }),
  component: lazyRouteComponent(() => import("./views/IssueViews"), "IssuesView"),
});

const issue = createRoute({
  getParentRoute: () => root,
  path: "/issues/$id",
  component: lazyRouteComponent(() => import("./views/IssueViews"), "IssueView"),
});

const merges = createRoute({
  getParentRoute: () => root,
  path: "/merges",
  validateSearch: (s: Record<string, unknown>): { merge?: string } => ({ merge: text(s.merge) }),
  component: lazyRouteComponent(() => import("./views/MergeView"), "MergesView"),
});

const certificates = createRoute({
  getParentRoute: () => root,
  path: "/certificates",
  component: lazyRouteComponent(() => import("./views/CertificateViews"), "CertificatesView"),
});

const certificate = createRoute({
  getParentRoute: () => root,
  path: "/certificates/$id",
  component: lazyRouteComponent(() => import("./views/CertificateViews"), "CertificateView"),
});

const history = createRoute({
  getParentRoute: () => root,
  path: "/history",
  component: lazyRouteComponent(() => import("./views/HistoryView"), "HistoryView"),
});

export const router = createRouter({
  routeTree: root.addChildren([
    desk,
    datasets,
    dataset,
    rulebook,
    table,
    fix,
    issues,
    issue,
    merges,
    certificates,
    certificate,
    history,
  ]),
  defaultPreload: "intent",
  scrollRestoration: true,
});

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
