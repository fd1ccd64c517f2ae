import { chakra, HStack } from "@chakra-ui/react";
import { type FormEvent, useState } from "react";
import type { Schemas } from "../client/client";
import { Field, Press, Writing } from "../shared/controls";
import { LeaveGuard } from "../shared/LeaveGuard";
import { Section } from "../shared/parts";
import { Trouble } from "../shared/states";

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

/** Accepts what was found as it is, for a reason, until a day. */
export function WaiverForm({
  onSend,
  busy,
  error,
}: {
  onSend: (b: Schemas["WaiverBody"]) => Promise<unknown>;
  busy: boolean;
  error: unknown;
}) {
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState("");
  return (
    <Section title="Waive: accept it as it is">
      <LeaveGuard unsent={reason.trim() !== "" && !busy} />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          onSend({ reason, until }).then(
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
        <HStack mt="1">
          <label htmlFor="until">until</label>
          <Field
            id="until"
            type="date"
            required
            min={new Date().toISOString().slice(0, 10)}
            value={until}
            onChange={(e) => setUntil(e.target.value)}
          />
          <Press type="submit" loading={busy}>
            Waive
          </Press>
        </HStack>
        <Trouble error={error} />
      </form>
    </Section>
  );
}
