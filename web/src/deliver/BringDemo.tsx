import { Box, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, deliver, take } from "../client/client";
import { samples } from "../client/queries";
import { Press } from "../shared/controls";
import { Trouble } from "../shared/states";
import { count } from "../shared/words";

const notes = {
  provider: "Alder Vale river survey",
  contact: "the survey office",
  period: "2024",
  method: "made up for the demo, with planted defects",
};

/** Brings made-up datasets with planted defects, one after the other, as a person would take them in. */
export function BringDemo() {
  const offered = useQuery(samples).data ?? [];
  const client = useQueryClient();
  const [at, setAt] = useState(0);
  const bring = useMutation({
    mutationFn: async () => {
      for (const [i, one] of offered.entries()) {
        setAt(i);
        await take(api.POST("/rulebooks", { body: { source: one.rulebook } }));
        const file = await take(
          api.GET("/samples/{name}", { params: { path: { name: one.dataset } }, parseAs: "blob" }) as never,
        );
        await deliver(one.dataset, new File([file as Blob], one.file_name), notes, () => undefined);
      }
    },
    onSettled: () => client.invalidateQueries(),
  });
  return offered.length === 0 ? null : (
    <Box mt="4">
      <Text color="quiet" mb="1">
        To look around first, bring the survey of a made-up river: {count(offered.length)} datasets, with
        defects that were planted in them. <code>proudsieve tour</code> tells each, and what finds it.
      </Text>
      <Press plain needs="work" onClick={() => bring.mutate()} loading={bring.isPending}>
        Bring the made-up survey
      </Press>
      {bring.isPending && (
        <Text role="status" fontSize="sm">
          {count(at + 1)} of {count(offered.length)}: {offered[at]?.dataset}
        </Text>
      )}
      <Trouble error={bring.error} />
    </Box>
  );
}
