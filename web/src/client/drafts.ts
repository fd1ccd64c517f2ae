import { useState } from "react";
import { Refusal } from "./client";

type Version = { version: number; source: string };

/**
 * A text that is being changed, with the version it was made from: saving names that
 * version, so that nobody's is overwritten unseen.
 */
export function useDraft(newest: Version | undefined) {
  const [draft, setDraft] = useState<{ source: string; from: number }>();
  return {
    source: draft?.source,
    from: draft?.from ?? newest?.version ?? 0,
    change: (source: string | undefined) =>
      setDraft((was) =>
        source === undefined ? undefined : { source, from: was?.from ?? newest?.version ?? 0 },
      ),
    /** Says that the newest version was seen, and that the draft is to come after it. */
    follow: (version: number) => setDraft((was) => was && { ...was, from: version }),
  };
}

/** The header that names the version a text was made from. */
export const madeFrom = (version: number) => ({
  header: version > 0 ? { "If-Match": `"${version}"` } : {},
});

/** Whether a text was not saved because somebody else saved another one meanwhile. */
export const isOutdated = (error: unknown) =>
  error instanceof Refusal && (error.status === 412 || error.status === 428);
