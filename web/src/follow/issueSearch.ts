import { text } from "../shared/addresses";

export const issueStates = ["unsettled", "open", "asked", "waived", "closed", "all"] as const;
export const severities = ["major", "minor", "note"] as const;

/** What can come first, as it is called. */
export const issueOrders = {
  newest: "the newest first",
  gravest: "the gravest first",
  rows: "those with most rows first",
  changed: "the last changed first",
  due: "the most urgent first",
} as const;

export type IssueSearch = {
  state?: (typeof issueStates)[number];
  severity?: (typeof severities)[number];
  dataset?: string;
  /** A person, or - for nobody. */
  assignee?: string;
  text?: string;
  /** Who can tell what is right. */
  owner?: string;
  overdue?: boolean;
  order?: keyof typeof issueOrders;
};

const among = <T extends string>(all: readonly T[], v: unknown) => all.find((one) => one === v);

/** What the address of the list of issues says; whatever is none of its words is left out. */
export function issueSearch(s: Record<string, unknown>): IssueSearch {
  return {
    state: among(issueStates, s.state),
    severity: among(severities, s.severity),
    dataset: text(s.dataset),
    assignee: text(s.assignee),
    text: text(s.text),
    owner: text(s.owner),
    overdue: s.overdue === true ? true : undefined,
    order: among(Object.keys(issueOrders) as (keyof typeof issueOrders)[], s.order),
  };
}
