import { chakra, HStack, Text } from "@chakra-ui/react";
import { type FormEvent, useState } from "react";
import type { Schemas } from "../client/client";
import { Choice, Field, Press, Writing } from "../shared/controls";
import { LeaveGuard } from "../shared/LeaveGuard";
import { split } from "../shared/lists";
import { Section } from "../shared/parts";
import { Trouble } from "../shared/states";
import { count, plural } from "../shared/words";
import { endedWord } from "./issueWords";

/** Says something about an issue, which stays in its record. */
export function CommentForm({
  onSend,
  error,
}: {
  onSend: (text: string) => Promise<unknown>;
  error: unknown;
}) {
  const [text, setText] = useState("");
  const send = async (e: FormEvent) => {
    e.preventDefault();
    await onSend(text);
    setText("");
  };
  return (
    <chakra.form onSubmit={send} mt="3">
      <LeaveGuard unsent={text.trim() !== ""} />
      <Writing
        aria-label="Comment"
        rows={3}
        required
        value={text}
        onChange={(e) => setText(e.target.value)}
        placeholder="A question, an answer, an assumption"
      />
      <Trouble error={error} />
      <Press type="submit" plain disabled={text.trim() === ""}>
        Add to the record
      </Press>
    </chakra.form>
  );
}

type Of = NonNullable<Schemas["Waived"]["of"]>;
type For = NonNullable<Schemas["Waived"]["for"]>;

/** Accepts something of what was found as it is: so many rows, some texts or these rows, for a reason and a time. */
export function WaiverForm({
  issue,
  onSend,
  busy,
  error,
}: {
  issue: Schemas["Issue"];
  onSend: (b: Schemas["Waived"]) => Promise<unknown>;
  busy: boolean;
  error: unknown;
}) {
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState("");
  const [of, setOf] = useState<Of>("count");
  const [texts, setTexts] = useState("");
  const [how, setHow] = useState<For>("day");
  const named = issue.subject === "rule" && issue.rows > 0;
  return (
    <Section title="Waive: accept it as it is">
      <LeaveGuard unsent={reason.trim() !== "" && !busy} />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          onSend({
            reason,
            of,
            for: how,
            until: how === "day" ? until : undefined,
            texts: of === "texts" ? split(texts) : undefined,
          }).then(
            () => setReason(""),
            () => undefined, // why not stands beneath
          );
        }}
      >
        <Writing
          aria-label="Reason"
          rows={3}
          required
          minLength={3}
          value={reason}
          onChange={(e) => setReason(e.target.value)}
          placeholder="Why it may stand"
        />
        <Choice
          aria-label="What is accepted"
          w="full"
          maxW="full"
          value={of}
          onChange={(e) => setOf(e.target.value as Of)}
        >
          <option value="count">
            {issue.rows > 0 ? `${plural(issue.rows, "row", "rows")}, whichever they are` : "what it says now"}
          </option>
          {named && (
            <option value="rows">
              {issue.rows === 1 ? "this row" : `these ${count(issue.rows)} rows`}, by what stands in them
            </option>
          )}
          {named && <option value="texts">some texts, in any number of rows</option>}
        </Choice>
        {of === "texts" && (
          <Field
            aria-label="The texts that are accepted"
            placeholder="the texts, with commas between"
            w="full"
            mt="1"
            required
            value={texts}
            onChange={(e) => setTexts(e.target.value)}
          />
        )}
        <HStack mt="1" flexWrap="wrap">
          <Choice aria-label="How long" value={how} onChange={(e) => setHow(e.target.value as For)}>
            <option value="day">until</option>
            <option value="delivery">for this delivery alone</option>
            <option value="good">for good</option>
          </Choice>
          {how === "day" && (
            <Field
              id="until"
              aria-label="The last day"
              type="date"
              required
              min={new Date().toISOString().slice(0, 10)}
              value={until}
              onChange={(e) => setUntil(e.target.value)}
            />
          )}
          <Press type="submit" loading={busy}>
            Waive
          </Press>
        </HStack>
        <Text fontSize="sm" color="quiet" pt="1">
          With anything beyond, the issue opens again.
        </Text>
        <Trouble error={error} />
      </form>
    </Section>
  );
}

/** Closes an issue of which nothing is found any more, with how it ended and why. */
export function ClosingForm({
  onSend,
  busy,
  error,
}: {
  onSend: (b: Schemas["Closing"]) => Promise<unknown>;
  busy: boolean;
  error: unknown;
}) {
  const [reason, setReason] = useState("");
  const [ended, setEnded] = useState<Schemas["Closing"]["ended"]>("put_right");
  return (
    <Section title="Close it">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          onSend({ reason, ended }).catch(() => undefined); // why not stands beneath
        }}
      >
        <Choice
          aria-label="How it ended"
          w="full"
          maxW="full"
          value={ended}
          onChange={(e) => setEnded(e.target.value as typeof ended)}
        >
          {(["put_right", "corrected", "accepted", "withdrawn"] as const).map((e) => (
            <option key={e} value={e}>
              {endedWord[e]}
            </option>
          ))}
        </Choice>
        <HStack mt="1">
          <Field
            aria-label="Why it is closed"
            placeholder="Why"
            w="full"
            required
            minLength={3}
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
          <Press type="submit" plain loading={busy} disabled={reason.trim().length < 3}>
            Close
          </Press>
        </HStack>
        <Trouble error={error} />
      </form>
    </Section>
  );
}
