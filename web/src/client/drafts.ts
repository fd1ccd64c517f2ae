import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Refusal } from "./client";
import { keep, kept } from "./keeping";
import { me } from "./queries";

type Version = { version: number; source: string };
type Draft = { source: string; from: number; at: number };

/** A draft that was kept in this browser; what is none of ours is none. */
const draftKept = (key: string) =>
  kept(key, (value) => {
    const draft = value as Partial<Draft> | null;
    return draft && typeof draft.source === "string" && typeof draft.from === "number"
      ? { source: draft.source, from: draft.from, at: draft.at ?? 0 }
      : undefined;
  });

/**
 * A text that is being changed, with the version it was made from: saving names that
 * version, so that nobody's is overwritten unseen. It is kept in the browser for each person
 * and text until it is saved or given up.
 */
export function useDraft(what: string, newest: Version | undefined) {
  const key = `draft of ${useQuery(me).data?.name ?? ""}: ${what}`;
  const read = () => ({ key, draft: draftKept(key), found: draftKept(key)?.at, elsewhere: false });
  const [state, setState] = useState(read);
  if (state.key !== key) {
    setState(read());
  }
  const draft = state.key === key ? state.draft : undefined;
  const set = (next: Draft | undefined) => {
    keep(key, next);
    setState((was) => ({ ...was, key, draft: next, found: next && was.found }));
  };
  useEffect(() => {
    // Another tab changes the text too.
    const told = (e: StorageEvent) => {
      if (e.key === key) {
        setState((was) => ({ ...was, elsewhere: e.newValue !== null }));
      }
    };
    addEventListener("storage", told);
    return () => removeEventListener("storage", told);
  }, [key]);
  return {
    source: draft?.source,
    from: draft?.from ?? newest?.version ?? 0,
    /** When the draft was changed last, where it was here before the page was opened. */
    found: draft && state.found,
    /** Whether another tab changes the text too. */
    elsewhere: state.elsewhere,
    change: (source: string | undefined) =>
      set(
        source === undefined
          ? undefined
          : { source, from: draft?.from ?? newest?.version ?? 0, at: Date.now() },
      ),
    /** Says that the newest version was seen, and that the draft is to come after it. */
    follow: (version: number) => draft && set({ ...draft, from: version }),
  };
}

/** The header that names the version a text was made from. */
export const madeFrom = (version: number) => ({
  header: version > 0 ? { "If-Match": `"${version}"` } : {},
});

/** Whether a text was not saved because somebody else saved another one meanwhile. */
export const isOutdated = (error: unknown) =>
  error instanceof Refusal && (error.status === 412 || error.status === 428);
