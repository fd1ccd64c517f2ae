import { HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, take } from "../client/client";
import { dataset, refresh } from "../client/queries";
import { Press } from "../shared/controls";
import { Trouble } from "../shared/states";

/** Whether a plan is applied to every delivery as it arrives, and the way to say so. */
export function Standing({ name, plan }: { name: string; plan: string }) {
  const d = useQuery(dataset(name)).data;
  const client = useQueryClient();
  const set = useMutation({
    mutationFn: (fix_plan: string | null) =>
      take(api.PUT("/datasets/{name}/standing-plan", { params: { path: { name } }, body: { fix_plan } })),
    onSuccess: () => refresh(client, "plan"),
  });
  if (!d) {
    return null;
  }
  const stands = d.standing_plan === plan;
  return (
    <HStack mt="2" gap="3" flexWrap="wrap">
      <Text fontSize="sm" color="quiet">
        {stands
          ? "It is applied to every delivery once it was audited."
          : d.standing_plan
            ? `The plan ${d.standing_plan} is applied to every delivery once it was audited.`
            : "No plan is applied to deliveries by itself."}
      </Text>
      <Press
        plain
        size="xs"
        h="6"
        needs="work"
        loading={set.isPending}
        onClick={() => set.mutate(stands ? null : plan)}
      >
        {stands ? "No longer" : "Apply this one to every delivery"}
      </Press>
      <Trouble error={set.error} />
    </HStack>
  );
}
