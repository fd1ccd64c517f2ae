import { HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { api, type Schemas, take } from "../client/client";
import { dataset, refresh } from "../client/queries";
import { Press } from "../shared/controls";
import { Trouble } from "../shared/states";

/** What comes next where a table was judged by no rulebook, or by one that has a later version now. */
export function NextStep({ t, a }: { t: Schemas["Table"]; a: Schemas["AuditShown"] }) {
  const newest = useQuery(dataset(t.dataset)).data?.rulebook;
  if (t.withdrawn_at || newest === a.rulebook || (!newest && t.origin !== "delivery")) {
    return null;
  }
  if (!newest) {
    return (
      <Text role="status" my="2" borderLeftWidth="4px" borderColor="accent" pl="2">
        Nothing is declared of {t.dataset} yet, so that there is no verdict.{" "}
        <Link to="/datasets/$name/proposal" params={{ name: t.dataset }}>
          See what could hold
        </Link>
        , line by line, each with its evidence.
      </Text>
    );
  }
  return (
    <HStack role="status" my="2" gap="3" fontSize="sm" flexWrap="wrap">
      <Text>
        {a.rulebook
          ? `This was judged by version ${a.rulebook} of the rulebook; version ${newest} is in force now.`
          : `This was judged by no rulebook; version ${newest} is in force now.`}
      </Text>
      <AuditAgain id={t.id} />
    </HStack>
  );
}

/** Has a table judged by the rulebook in force. */
export function AuditAgain({ id }: { id: number }) {
  const client = useQueryClient();
  const start = useMutation({
    mutationFn: () => take(api.POST("/tables/{id}/audits", { params: { path: { id } } })),
    onSuccess: () => refresh(client, "table"),
  });
  return (
    <>
      <Press needs="work" plain onClick={() => start.mutate()} loading={start.isPending}>
        Audit it again by the newest rulebook
      </Press>
      <Trouble error={start.error} />
    </>
  );
}
