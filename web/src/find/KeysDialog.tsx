import { chakra, Dialog, Text } from "@chakra-ui/react";
import { type Key, keys } from "./keys";

/** The keys that do something everywhere, and whether those without Ctrl are on. */
export function KeysDialog(props: { single: boolean; setSingle: (on: boolean) => void; close: () => void }) {
  return (
    <Dialog.Root open onOpenChange={(d) => !d.open && props.close()} motionPreset="none">
      <Dialog.Backdrop />
      <Dialog.Positioner>
        <Dialog.Content bg="sheet" color="ink" borderRadius="2px" p="5" maxW="520px">
          <Dialog.Title fontSize="lg" fontWeight="650" mb="2">
            Keys
          </Dialog.Title>
          <chakra.dl display="grid" gridTemplateColumns="130px 1fr" columnGap="4" rowGap="1">
            {keys.map((k) => (
              <KeyLine key={k.shown} k={k} />
            ))}
          </chakra.dl>
          <chakra.label display="flex" gap="2" mt="3" alignItems="baseline">
            <input
              type="checkbox"
              checked={props.single}
              onChange={(e) => props.setSingle(e.target.checked)}
            />
            <Text>
              Single keys are on. Turn them off where you speak to your computer; Ctrl K always finds.
            </Text>
          </chakra.label>
          <Text color="quiet" fontSize="sm" mt="2">
            In grids arrows and Page up and down scroll; in the mesh arrows move and enter opens. Escape
            closes what is open.
          </Text>
        </Dialog.Content>
      </Dialog.Positioner>
    </Dialog.Root>
  );
}

function KeyLine({ k }: { k: Key }) {
  return (
    <>
      <dt>
        <chakra.kbd fontFamily="mono">{k.shown}</chakra.kbd>
      </dt>
      <chakra.dd m="0">{k.does}</chakra.dd>
    </>
  );
}
