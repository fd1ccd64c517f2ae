import type { Schemas } from "../client/client";

export type NoticeKind = Schemas["Notice"]["kind"];

/** The kinds of what people and programs are told of, in words. */
export const kindWord: Record<NoticeKind, string> = {
  delivery_arrived: "a delivery arrived",
  delivery_late: "a delivery is late",
  fell_short: "a table fell short",
  issue_came_back: "an issue came back",
  question_answered: "a question was answered",
  certificate_signed: "a certificate was signed",
  certificate_revoked: "a certificate was revoked",
  job_failed: "a job failed",
};

export const noticeKinds = Object.keys(kindWord) as NoticeKind[];

export const asKind = (text: unknown) => noticeKinds.find((kind) => kind === text);
