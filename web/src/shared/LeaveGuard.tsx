import { Dialog, HStack } from "@chakra-ui/react";
import { useBlocker } from "@tanstack/react-router";
import { Press } from "./controls";

/** Asks before a page is left on which something is written that was not sent. Drafts of declarations need none: they are kept. */
export function LeaveGuard({ unsent }: { unsent: boolean }) {
  const leaving = useBlocker({
    shouldBlockFn: () => unsent,
    enableBeforeUnload: () => unsent,
    withResolver: true,
  });
  return leaving.status !== "blocked" ? null : (
    <Dialog.Root open onOpenChange={() => leaving.reset()} motionPreset="none" role="alertdialog">
      <Dialog.Backdrop />
      <Dialog.Positioner>
        <Dialog.Content bg="sheet" color="ink" borderRadius="2px" p="5">
          <Dialog.Title fontSize="lg" fontWeight="650">
            What you wrote is not sent
          </Dialog.Title>
          <Dialog.Description mb="3">It is lost when you leave this page.</Dialog.Description>
          <HStack gap="3">
            <Press onClick={leaving.reset}>Stay here</Press>
            <Press plain onClick={leaving.proceed}>
              Leave, and lose it
            </Press>
          </HStack>
        </Dialog.Content>
      </Dialog.Positioner>
    </Dialog.Root>
  );
}
