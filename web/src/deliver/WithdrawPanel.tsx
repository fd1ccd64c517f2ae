import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { me, refresh } from "../client/queries";
import { Press, Writing } from "../shared/controls";
import { LeaveGuard } from "../shared/LeaveGuard";
import { Section } from "../shared/parts";
import { Trouble } from "../shared/states";
import { when } from "../shared/words";

/** Says above everything else that a table counts no more, and why. */
export function Withdrawn({ t }: { t: Schemas["Table"] }) {
  return t.withdrawn_at ? (
    <Box role="status" borderLeftWidth="4px" borderColor="validity" bg="sheet" px="3" py="2" my="2">
      <Text fontWeight="600">
        Withdrawn by {t.withdrawn_by ?? "the dataset's retention"}, {when(t.withdrawn_at)}: {t.withdrawn}
      </Text>
      <Text fontSize="sm">
        It counts in no score, no issue and no merge any more.
        {t.bytes_let_go && " Its bytes were let go; what was found in them stays here."}
      </Text>
    </Box>
  ) : null;
}

/** Withdraws a delivery that was taken in by mistake. */
export function WithdrawPanel({ t }: { t: Schemas["Table"] }) {
  const who = useQuery(me);
  const client = useQueryClient();
  const [reason, setReason] = useState("");
  const [letGo, setLetGo] = useState(false);
  const withdraw = useMutation({
    mutationFn: () =>
      take(
        api.POST("/tables/{id}/withdrawal", {
          params: { path: { id: t.id } },
          body: { reason, let_go_of_bytes: letGo },
        }),
      ),
    onSuccess: () => refresh(client, "delivery", "table"),
  });
  if (t.origin !== "delivery" || t.withdrawn_at || !who.data?.rights.includes("work")) {
    return null;
  }
  return (
    <Section title="Withdraw: it was taken in by mistake">
      <chakra.form
        maxW="640px"
        onSubmit={(e: React.FormEvent) => {
          e.preventDefault();
          withdraw.mutate();
        }}
      >
        <LeaveGuard unsent={reason.trim() !== "" && !withdraw.isPending} />
        <Text fontSize="sm" color="quiet">
          The delivery leaves scores, issues and newest tables, with all that was made of it. Its record
          stays. This cannot be taken back; the same file may be taken in again.
        </Text>
        <Writing
          aria-label="Why the delivery is withdrawn"
          rows={2}
          required
          minLength={3}
          value={reason}
          onChange={(e) => setReason(e.target.value)}
          placeholder="Why it was a mistake"
        />
        <HStack mt="1" gap="4">
          <chakra.label fontSize="sm">
            <input type="checkbox" checked={letGo} onChange={(e) => setLetGo(e.target.checked)} /> remove its
            bytes too
          </chakra.label>
          <Press type="submit" plain loading={withdraw.isPending} disabled={reason.trim().length < 3}>
            Withdraw the delivery
          </Press>
        </HStack>
        <Trouble error={withdraw.error} />
      </chakra.form>
    </Section>
  );
}
