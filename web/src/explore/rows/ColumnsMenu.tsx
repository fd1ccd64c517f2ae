import { Box, HStack, Popover, Portal } from "@chakra-ui/react";
import { useState } from "react";
import { Field, Press } from "../../shared/controls";
import { count } from "../../shared/words";
import type { useLayout } from "./layout";

const most = 200;

/** Which columns are shown, and which stay in sight; found by name where there are many. */
export function ColumnsMenu({ columns, layout, set }: { columns: string[] } & ReturnType<typeof useLayout>) {
  const [sought, setSought] = useState("");
  const found = columns.filter((c) => c.toLowerCase().includes(sought.toLowerCase()));
  const toggled = (list: string[], c: string) =>
    list.includes(c) ? list.filter((x) => x !== c) : [...list, c];
  const changed = layout.hide.length + layout.pin.length + layout.order.length > 0;
  return (
    <Popover.Root lazyMount unmountOnExit positioning={{ placement: "bottom-start" }}>
      <Popover.Trigger asChild>
        <Press plain>which columns{layout.hide.length > 0 && ` (${count(layout.hide.length)} hidden)`}</Press>
      </Popover.Trigger>
      <Portal>
        <Popover.Positioner>
          <Popover.Content
            bg="sheet"
            borderWidth="1px"
            borderColor="quiet"
            borderRadius="2px"
            w="320px"
            aria-label="Columns"
          >
            <Box p="2">
              <Field
                aria-label="Find a column"
                placeholder="find a column …"
                value={sought}
                onChange={(e) => setSought(e.target.value)}
                w="full"
                mb="1"
              />
              <Box
                maxH="320px"
                overflow="auto"
                tabIndex={0}
                role="group"
                aria-label="Columns, shown and pinned"
              >
                {found.slice(0, most).map((c) => (
                  <HStack key={c} justify="space-between" gap="4" minH="7">
                    <label>
                      <input
                        type="checkbox"
                        checked={!layout.hide.includes(c)}
                        onChange={() => set({ hide: toggled(layout.hide, c) })}
                      />{" "}
                      {c}
                    </label>
                    <label>
                      <input
                        type="checkbox"
                        checked={layout.pin.includes(c)}
                        onChange={() => set({ pin: toggled(layout.pin, c) })}
                      />{" "}
                      pin
                    </label>
                  </HStack>
                ))}
                {found.length > most &&
                  `The first ${count(most)} of ${count(found.length)} are shown; write more of the name.`}
              </Box>
              <HStack mt="2" gap="2">
                <Press
                  plain
                  size="xs"
                  h="6"
                  onClick={() => set({ hide: columns.filter((c) => !found.includes(c)) })}
                >
                  Only these {count(found.length)}
                </Press>
                {changed && (
                  <Press
                    plain
                    size="xs"
                    h="6"
                    onClick={() => set({ hide: [], pin: [], order: [], widths: {} })}
                  >
                    All, as in the file
                  </Press>
                )}
              </HStack>
            </Box>
          </Popover.Content>
        </Popover.Positioner>
      </Portal>
    </Popover.Root>
  );
}
