import { Box, chakra, Text } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { Refusal, type Schemas } from "../client/client";
import { Field, Press, Writing } from "../shared/controls";
import { LeaveGuard } from "../shared/LeaveGuard";
import { said } from "../shared/toasts";

/** One thing that is asked less, or may be. */
export const LessAsked = ({ says, perhaps }: { says: string; perhaps?: boolean }) => (
  <li>
    {says}
    {perhaps && <chakra.span color="quiet"> Nobody can tell whether this asks less.</chakra.span>}
  </li>
);

export type Eased = { reason: string; lost: Schemas["LostRule"][] };

/** Whether a rulebook was not saved because it asks less, and nobody has said why. */
export const isEasing = (error: unknown): error is Refusal =>
  error instanceof Refusal &&
  error.status === 409 &&
  error.details.some((d) => /weaker$|^lost$/.test(d.location ?? ""));

/** Says that a rulebook was saved, or that it waits for a second person. */
export function saidSaved(d: Schemas["Declaration"]) {
  said(
    d.waits
      ? `Kept as decision ${d.waits}, which waits for a second person.`
      : `Version ${d.version} of the rulebook of ${d.dataset} is saved.`,
  );
}

/** By what a rulebook asks less, and which open issues lose their rule: whoever saves it says why, and what becomes of these. */
export function Easing(props: {
  error: unknown;
  busy: boolean;
  save: (e: Eased) => void;
  leave: () => void;
}) {
  const [reason, setReason] = useState("");
  const [to, setTo] = useState<Record<string, string>>({});
  const { error } = props;
  if (!isEasing(error)) {
    return null;
  }
  const weaker = error.details.filter((d) => d.location?.endsWith("weaker"));
  const lost = error.details.filter((d) => d.location === "lost");
  return (
    <Box
      as="section"
      role="alert"
      aria-label="What is asked less"
      borderLeftWidth="4px"
      borderColor="validity"
      bg="sheet"
      px="3"
      py="2"
      my="2"
    >
      <LeaveGuard unsent={reason.trim() !== ""} />
      <Text fontWeight="600">Less is asked of a table by this version, or may be. That is a decision.</Text>
      <chakra.ul pl="5" listStyleType="disc" fontSize="sm">
        {weaker.map((d) => (
          <LessAsked key={d.message} says={d.message} perhaps={d.location === "perhaps weaker"} />
        ))}
      </chakra.ul>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          props.save({
            reason,
            lost: lost.map((d) => ({ rule: String(d.value), to: to[String(d.value)]?.trim() || undefined })),
          });
        }}
      >
        {lost.map((d) => (
          <chakra.div key={d.message} fontSize="sm" mt="1">
            {d.message}{" "}
            <Field
              aria-label={`The rule with which the issue of ${d.value} goes on`}
              placeholder="closed by this; or goes on as rule …"
              w="280px"
              h="7"
              value={to[String(d.value)] ?? ""}
              onChange={(e) => setTo({ ...to, [String(d.value)]: e.target.value })}
            />
          </chakra.div>
        ))}
        <Writing
          aria-label="Why less is asked"
          placeholder="Why less is asked"
          rows={2}
          required
          minLength={3}
          mt="2"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
        />
        <Press type="submit" mt="1" needs="work" loading={props.busy} disabled={reason.trim().length < 3}>
          Save it with this reason
        </Press>{" "}
        <Press plain mt="1" onClick={props.leave}>
          Do not save it
        </Press>
        <Text fontSize="sm" color="quiet" pt="1">
          It stands in the comparison of versions, on certificates and reports, and among the{" "}
          <Link to="/decisions">decisions</Link>.
        </Text>
      </form>
    </Box>
  );
}
