import { chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { me, refresh } from "../client/queries";
import { Field, Press } from "../shared/controls";
import { Trouble } from "../shared/states";

/** What a steward makes of what looks odd: it is meant so, which the rulebook says then, or an issue. */
export function LeadActions({ audit, lead }: { audit: Schemas["AuditShown"]; lead: Schemas["Lead"] }) {
  const who = useQuery(me);
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState("");
  const meant = useMutation({
    mutationFn: () =>
      take(
        api.POST("/audits/{id}/meant-so", {
          params: { path: { id: audit.id } },
          body: { lead: lead.kind, column: lead.column, reason },
        }),
      ),
    onSuccess: () => refresh(client, "rulebook"),
  });
  const made = useMutation({
    mutationFn: () =>
      take(
        api.POST("/audits/{id}/issues", {
          params: { path: { id: audit.id } },
          body: { lead: lead.kind, column: lead.column },
        }),
      ),
    onSuccess: () => refresh(client, "issue"),
  });
  if (!who.data?.rights.includes("work")) {
    return null;
  }
  if (meant.data) {
    return (
      <Text as="span" role="status" color="quiet">
        Version {meant.data.version} of the rulebook says that it is meant so.
      </Text>
    );
  }
  if (made.data) {
    return (
      <Link to="/issues/$id" params={{ id: String(made.data.id) }}>
        issue {made.data.id}
      </Link>
    );
  }
  return (
    <>
      <Choice onClick={() => setOpen(!open)} label={`Meant so: ${lead.says}`}>
        meant so …
      </Choice>{" "}
      <Choice onClick={() => made.mutate()} label={`Make an issue: ${lead.says}`}>
        make an issue
      </Choice>
      {open && (
        <chakra.form
          maxW="640px"
          onSubmit={(e: React.FormEvent) => {
            e.preventDefault();
            meant.mutate();
          }}
        >
          <HStack my="1">
            <Field
              aria-label="Why it is meant so"
              placeholder="Why it is meant so"
              required
              value={reason}
              onChange={(e) => setReason(e.target.value)}
            />
            <Press type="submit" loading={meant.isPending} disabled={reason.trim() === ""}>
              Write it into the rulebook
            </Press>
          </HStack>
        </chakra.form>
      )}
      <Trouble error={meant.error ?? made.error} />
    </>
  );
}

function Choice({ onClick, label, children }: { onClick: () => void; label: string; children: string }) {
  return (
    <chakra.button
      fontSize="sm"
      color="accent"
      textDecoration="underline"
      aria-label={label}
      onClick={onClick}
    >
      {children}
    </chakra.button>
  );
}
