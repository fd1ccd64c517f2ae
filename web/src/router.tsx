import { createRootRoute, createRoute, createRouter, lazyRouteComponent } from "@tanstack/react-router";
import { DeskView } from "./follow/DeskView";
import { issueSearch } from "./follow/issueSearch";
import { Missing, Shell } from "./Shell";
import { arrivalSearch, tableSearch, text } from "./shared/addresses";
import { Broken } from "./shared/Broken";
import { asKind, type NoticeKind } from "./tell/noticeWords";

const root = createRootRoute({ component: Shell, notFoundComponent: Missing });

const desk = createRoute({ getParentRoute: () => root, path: "/", component: DeskView });

const datasets = createRoute({
  getParentRoute: () => root,
  path: "/datasets",
  component: lazyRouteComponent(() => import("./deliver/DatasetViews"), "DatasetsView"),
});

const dataset = createRoute({
  getParentRoute: () => root,
  path: "/datasets/$name",
  component: lazyRouteComponent(() => import("./deliver/DatasetViews"), "DatasetView"),
});

const arrival = createRoute({
  getParentRoute: () => root,
  path: "/new",
  validateSearch: arrivalSearch,
  component: lazyRouteComponent(() => import("./deliver/ArrivalView"), "ArrivalView"),
});

const proposal = createRoute({
  getParentRoute: () => root,
  path: "/datasets/$name/proposal",
  component: lazyRouteComponent(() => import("./judge/ProposalView"), "ProposalView"),
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
  component: lazyRouteComponent(() => import("./judge/RulebookView"), "RulebookView"),
});

const table = createRoute({
  getParentRoute: () => root,
  path: "/tables/$id",
  validateSearch: tableSearch,
  component: lazyRouteComponent(() => import("./judge/TableView"), "TableView"),
});

/** The plan that is looked at (empty for a new one), its step, how it is shown, its preview, a comparison of methods, and a step to be added. */
function fixSearch(s: Record<string, unknown>): {
  plan?: string;
  step?: number;
  as?: "text";
  job?: number;
  weigh?: number;
  put?: string;
} {
  return {
    plan: typeof s.plan === "string" ? s.plan : undefined,
    step: typeof s.step === "number" ? s.step : undefined,
    as: s.as === "text" ? "text" : undefined,
    job: typeof s.job === "number" ? s.job : undefined,
    weigh: typeof s.weigh === "number" ? s.weigh : undefined,
    put: text(s.put),
  };
}

const fix = createRoute({
  getParentRoute: () => root,
  path: "/tables/$id/fix",
  validateSearch: fixSearch,
  component: lazyRouteComponent(() => import("./putright/FixView"), "FixView"),
});

const issues = createRoute({
  getParentRoute: () => root,
  path: "/issues",
  validateSearch: issueSearch,
  component: lazyRouteComponent(() => import("./follow/IssuesView"), "IssuesView"),
});

const issue = createRoute({
  getParentRoute: () => root,
  path: "/issues/$id",
  component: lazyRouteComponent(() => import("./follow/IssueView"), "IssueView"),
});

const decisions = createRoute({
  getParentRoute: () => root,
  path: "/decisions",
  validateSearch: (s: Record<string, unknown>): { dataset?: string } => ({ dataset: text(s.dataset) }),
  component: lazyRouteComponent(() => import("./judge/DecisionsView"), "DecisionsView"),
});

const decided = createRoute({
  getParentRoute: () => root,
  path: "/datasets/$name/decided",
  component: lazyRouteComponent(() => import("./judge/DecidedView"), "DecidedView"),
});

const sheets = createRoute({
  getParentRoute: () => root,
  path: "/questions",
  component: lazyRouteComponent(() => import("./follow/SheetsView"), "SheetsView"),
});

const ask = createRoute({
  getParentRoute: () => root,
  path: "/questions/new",
  validateSearch: (s: Record<string, unknown>): { issues: number[] } => ({
    issues: Array.isArray(s.issues) ? s.issues.filter((n) => Number.isInteger(n)) : [],
  }),
  component: lazyRouteComponent(() => import("./follow/AskView"), "AskView"),
});

const sheet = createRoute({
  getParentRoute: () => root,
  path: "/questions/$id",
  component: lazyRouteComponent(() => import("./follow/SheetView"), "SheetView"),
});

const merges = createRoute({
  getParentRoute: () => root,
  path: "/merges",
  validateSearch: (s: Record<string, unknown>): { merge?: string; as?: "text" } => ({
    merge: text(s.merge),
    as: s.as === "text" ? "text" : undefined,
  }),
  component: lazyRouteComponent(() => import("./merge/MergeView"), "MergesView"),
});

const certificates = createRoute({
  getParentRoute: () => root,
  path: "/certificates",
  component: lazyRouteComponent(() => import("./certify/CertificateViews"), "CertificatesView"),
});

const certificate = createRoute({
  getParentRoute: () => root,
  path: "/certificates/$id",
  component: lazyRouteComponent(() => import("./certify/CertificateViews"), "CertificateView"),
});

const notices = createRoute({
  getParentRoute: () => root,
  path: "/notices",
  validateSearch: (s: Record<string, unknown>): { kind?: NoticeKind; dataset?: string } => ({
    kind: asKind(s.kind),
    dataset: text(s.dataset),
  }),
  component: lazyRouteComponent(() => import("./tell/NoticesView"), "NoticesView"),
});

const databases = createRoute({
  getParentRoute: () => root,
  path: "/databases",
  component: lazyRouteComponent(() => import("./deliver/DatabasesView"), "DatabasesView"),
});
const people = createRoute({
  getParentRoute: () => root,
  path: "/people",
  component: lazyRouteComponent(() => import("./people/PeopleView"), "PeopleView"),
});

const letIn = createRoute({
  getParentRoute: () => root,
  path: "/let-in",
  component: lazyRouteComponent(() => import("./people/LetInView"), "LetInView"),
});

const history = createRoute({
  getParentRoute: () => root,
  path: "/history",
  component: lazyRouteComponent(() => import("./follow/HistoryView"), "HistoryView"),
});

export const router = createRouter({
  routeTree: root.addChildren([
    desk,
    datasets,
    dataset,
    arrival,
    proposal,
    rulebook,
    table,
    fix,
    issues,
    issue,
    sheets,
    ask,
    sheet,
    decisions,
    decided,
    merges,
    certificates,
    certificate,
    history,
    notices,
    databases,
    people,
    letIn,
  ]),
  defaultPreload: "intent",
  defaultErrorComponent: Broken,
  scrollRestoration: true,
});

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
